// Ways to fail, one for each word of the command line. Each is reached through two functions of its own, so that a stack can be checked.
#define _GNU_SOURCE
#include <assert.h>
#include <dlfcn.h>
#include <fcntl.h>
#include <pthread.h>
#include <signal.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/mman.h>
#include <sys/wait.h>
#include <unistd.h>
#define OWN __attribute__((noinline))
#define STAY __asm__ volatile("" ::: "memory")

volatile int zero;
volatile int counter;
struct record { char pad[24]; int value; };
struct record *volatile nothing;

// Through two functions: NAME_outer calls NAME_inner.
#define CASE(name, ...) \
    OWN int name##_inner(int n) { __VA_ARGS__; STAY; return n; } \
    OWN int name##_outer(int n) { int r = name##_inner(n + 1); STAY; return r + 1; }

CASE(null_write, { *(volatile int *)(long)zero = n; })
CASE(near_null, { n += nothing->value; })
CASE(null_call, { void (*volatile f)(void) = 0; f(); })
CASE(wild, { volatile long *p = (long *)(sizeof(long) == 8 ? (long)0x4141414141414141 : (long)0x41414141); n += (int)*p; })
CASE(division, { n = n / zero; })
CASE(trap, { __builtin_trap(); })
CASE(aborts, { abort(); })
CASE(asserts, { assert(n == 0); })
CASE(double_free, { char *p = malloc(40); free(p); char *volatile q = p; free(q); })
CASE(bad_free, { char *volatile p = (char *)&counter; free(p + 8); })
CASE(heap_overrun, { char *p = malloc(24); char *q = malloc(2000); memset(p, 'A', 64); STAY; free(q); free(p); })
OWN void smash_fill(char *p, int n) { for (int i = 0; i < n; i++) p[i] = 'A'; STAY; }
CASE(smash, { char small[16]; smash_fill(small, 200 + n); counter += small[3]; })
CASE(constant, { char *p = (char *)"constant text"; *(volatile char *)p = 'x'; })
CASE(string_null, { n += (int)strlen((const char *)nothing); })
CASE(copy_null, { memcpy((void *)(long)zero, "0123456789abcdef0123456789abcdef0123456789abcdef0123456789abcdef", 40 + n); })
CASE(raised, { raise(SIGSEGV); })
OWN int compare_items(const void *a, const void *b) { (void)b; int r = *(volatile int *)(long)zero + *(const int *)a; STAY; return r; }
CASE(callback, { int items[4] = {4, 3, 2, 1}; qsort(items, 4, sizeof *items, compare_items); n += items[0]; })
OWN int recursion_deep(int n) { volatile char room[400]; room[0] = (char)n; int r = recursion_deep(n + 1) + room[0]; STAY; return r; }
CASE(recursion, { n = recursion_deep(n); })
CASE(mapped_cut, {
    char name[] = "/tmp/zoo-cut-XXXXXX"; int fd = mkstemp(name); unlink(name);
    if (ftruncate(fd, 8192)) n++;
    volatile char *p = mmap(0, 8192, PROT_READ, MAP_SHARED, fd, 0);
    if (ftruncate(fd, 0)) n++;
    n += p[5000]; })
CASE(jump_data, { void *p = mmap(0, 4096, PROT_READ | PROT_WRITE, MAP_PRIVATE | MAP_ANONYMOUS, -1, 0); memset(p, 0xc3, 64); void (*volatile f)(void) = (void (*)(void))p; f(); })
CASE(no_memory, { char *volatile p = malloc((size_t)-1 / 4); p[n] = 1; })
CASE(other_process, { int child = fork(); if (!child) { usleep(50000); kill(getppid(), SIGABRT); _exit(0); } for (;;) pause(); })
CASE(quit_from_parent, { int child = fork(); if (!child) { usleep(50000); kill(getppid(), SIGQUIT); _exit(0); } waitpid(child, 0, 0); for (;;) pause(); })
OWN void *worker_sleep(void *arg) { for (;;) pause(); return arg; }
OWN int worker_step(int n) { *(volatile int *)(long)zero = n; STAY; return n; }
OWN void *worker_main(void *arg) { usleep(20000); counter += worker_step(7); STAY; return arg; }
CASE(thread, { pthread_t t; for (int i = 0; i < 40; i++) pthread_create(&t, 0, worker_sleep, 0); pthread_create(&t, 0, worker_main, 0); pthread_join(t, 0); })
OWN int thread_deep(int n) { volatile char room[1000]; room[0] = (char)n; int r = thread_deep(n + 1) + room[0]; STAY; return r; }
OWN void *deep_main(void *arg) { counter += thread_deep(1); return arg; }
CASE(thread_recursion, { pthread_t t; pthread_create(&t, 0, deep_main, 0); pthread_join(t, 0); })
OWN void on_fault(int s) { (void)s; static const char m[] = "fatal\n"; if (write(2, m, 6)) STAY; abort(); }
CASE(handler_aborts, { signal(SIGSEGV, on_fault); *(volatile int *)(long)zero = n; })
OWN void on_fault_again(int s) { signal(s, SIG_DFL); raise(s); STAY; }
CASE(handler_reraises, { signal(SIGSEGV, on_fault_again); *(volatile int *)(long)zero = n; })
OWN void on_alt(int s, siginfo_t *i, void *c) { (void)s; (void)i; (void)c; abort(); }
CASE(alt_stack, { stack_t st; memset(&st, 0, sizeof st); st.ss_sp = malloc(65536); st.ss_size = 65536; sigaltstack(&st, 0);
    struct sigaction a; memset(&a, 0, sizeof a); a.sa_sigaction = on_alt; a.sa_flags = SA_SIGINFO | SA_ONSTACK; sigaction(SIGSEGV, &a, 0); n = recursion_deep(n); })
CASE(fortified, { char small[8]; char *volatile text = (char *)"far too long for that place"; strcpy(small, text); counter += small[n]; })
CASE(after_free, { struct record *volatile *box = malloc(64); free(box); memset((void *)box, 0x5a, 64); n += box[0]->value; })
OWN int chain3(int n) { *(volatile int *)(long)zero = n; STAY; return n; }
OWN int chain2(int n) { volatile char room[5000]; room[n] = 1; int r = chain3(n + 1) + room[n]; STAY; return r; }
CASE(long_chain, { n = chain2(n); })
CASE(library, { int (*f)(int) = 0; void *lib = dlopen("./libfeeder.so", RTLD_NOW); if (lib) f = (int (*)(int))dlsym(lib, "feeder_push"); if (!f) _exit(3); n = f(n); })
CASE(library_null, { int (*f)(int (*)(int), int) = 0; void *lib = dlopen("./libfeeder.so", RTLD_NOW); if (lib) f = (int (*)(int (*)(int), int))dlsym(lib, "feeder_call"); if (!f) _exit(3); n = f(chain3, n); })
static pthread_mutex_t first = PTHREAD_MUTEX_INITIALIZER, second = PTHREAD_MUTEX_INITIALIZER;
OWN void *lock_backwards(void *arg) { pthread_mutex_lock(&second); usleep(20000); pthread_mutex_lock(&first); return arg; }
CASE(deadlock, { pthread_t t; int parent = getpid(); if (!fork()) { usleep(200000); kill(parent, SIGABRT); _exit(0); } pthread_create(&t, 0, lock_backwards, 0); pthread_mutex_lock(&first); usleep(20000); pthread_mutex_lock(&second); })
CASE(misaligned_code, { char *volatile p = (char *)(void *)division_outer; void (*volatile f)(void) = (void (*)(void))(p - (long)p + 0x1234); f(); })

#define ROW(name) { #name, name##_outer }
static struct { const char *name; int (*run)(int); } rows[] = {
    ROW(null_write), ROW(near_null), ROW(null_call), ROW(wild), ROW(division), ROW(trap), ROW(aborts), ROW(asserts), ROW(double_free),
    ROW(bad_free), ROW(heap_overrun), ROW(smash), ROW(constant), ROW(string_null), ROW(copy_null), ROW(raised), ROW(callback),
    ROW(recursion), ROW(mapped_cut), ROW(jump_data), ROW(no_memory), ROW(other_process), ROW(quit_from_parent), ROW(thread),
    ROW(thread_recursion), ROW(handler_aborts), ROW(handler_reraises), ROW(alt_stack), ROW(fortified), ROW(after_free), ROW(long_chain),
    ROW(library), ROW(library_null), ROW(deadlock), ROW(misaligned_code),
};
int main(int count, char **words) {
    for (unsigned i = 0; count > 1 && i < sizeof rows / sizeof *rows; i++)
        if (!strcmp(words[1], rows[i].name)) return rows[i].run(0) + zero;
    return 2;
}
