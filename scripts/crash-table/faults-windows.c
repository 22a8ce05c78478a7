#include <windows.h>
#include <dbghelp.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#define OWN __attribute__((noinline))
#define STAY __asm__ volatile("" ::: "memory")
volatile int zero; struct record { char pad[24]; int value; }; struct record *volatile nothing;
static int kind_of_dump = MiniDumpNormal; static char path[300];
static void write_dump(EXCEPTION_POINTERS *e, DWORD thread) {
    HANDLE f = CreateFileA(path, GENERIC_WRITE, 0, 0, CREATE_ALWAYS, 0, 0);
    MINIDUMP_EXCEPTION_INFORMATION i = { thread, e, FALSE };
    BOOL ok = MiniDumpWriteDump(GetCurrentProcess(), GetCurrentProcessId(), f, kind_of_dump, e ? &i : 0, 0, 0);
    printf("written %d\n", ok); CloseHandle(f); fflush(stdout); ExitProcess(9);
}
static EXCEPTION_POINTERS *met; static DWORD who;
static DWORD WINAPI writer(void *arg) { (void)arg; write_dump(met, who); return 0; }
static LONG WINAPI filter(EXCEPTION_POINTERS *e) { met = e; who = GetCurrentThreadId(); HANDLE t = CreateThread(0, 0, writer, 0, 0, 0); WaitForSingleObject(t, INFINITE); return EXCEPTION_EXECUTE_HANDLER; }
#define CASE(name, ...) OWN int name##_inner(int n) { __VA_ARGS__; STAY; return n; } OWN int name##_outer(int n) { int r = name##_inner(n + 1); STAY; return r + 1; }
CASE(null_write, { *(volatile int *)(size_t)zero = n; })
CASE(near_null, { n += nothing->value; })
CASE(null_call, { void (*volatile f)(void) = 0; f(); })
CASE(wild, { volatile long long *p = (long long *)0x4141414141414141; n += (int)*p; })
CASE(division, { n = n / zero; })
CASE(trap, { __builtin_trap(); })
CASE(constant, { char *p = (char *)"constant text"; *(volatile char *)p = 'x'; })
CASE(string_null, { n += (int)strlen((const char *)nothing); })
OWN int compare_items(const void *a, const void *b) { (void)b; int r = *(volatile int *)(size_t)zero + *(const int *)a; STAY; return r; }
CASE(callback, { int items[4] = {4, 3, 2, 1}; qsort(items, 4, sizeof *items, compare_items); n += items[0]; })
CASE(raised, { RaiseException(0xE0000417, 0, 0, 0); })
OWN int chain3(int n) { *(volatile int *)(size_t)zero = n; STAY; return n; }
OWN int chain2(int n) { volatile char room[5000]; room[n] = 1; int r = chain3(n + 1) + room[n]; STAY; return r; }
CASE(long_chain, { n = chain2(n); })
OWN int worker_step(int n) { *(volatile int *)(size_t)zero = n; STAY; return n; }
OWN DWORD WINAPI worker_main(void *arg) { Sleep(20); n: ; int r = worker_step(7); STAY; if (!arg) return r; goto n; }
OWN DWORD WINAPI worker_sleep(void *arg) { (void)arg; Sleep(INFINITE); return 0; }
CASE(thread, { for (int i = 0; i < 8; i++) CreateThread(0, 0, worker_sleep, 0, 0, 0); HANDLE t = CreateThread(0, 0, worker_main, 0, 0, 0); WaitForSingleObject(t, INFINITE); })
CASE(jump_data, { char *p = VirtualAlloc(0, 4096, MEM_COMMIT, PAGE_READWRITE); memset(p, 0xc3, 64); void (*volatile f)(void) = (void (*)(void))p; f(); })
CASE(library, { int (*f)(int) = (int (*)(int))(void *)GetProcAddress(LoadLibraryA("feeder.dll"), "feeder_push"); n = f(n); })
static DWORD WINAPI watcher(void *arg) { (void)arg; Sleep(200); write_dump(0, 0); return 0; }
CASE(hang, { CreateThread(0, 0, watcher, 0, 0, 0); HANDLE e = CreateEventA(0, 0, 0, 0); WaitForSingleObject(e, INFINITE); })
#define ROW(name) { #name, name##_outer }
static struct { const char *name; int (*run)(int); } rows[] = { ROW(null_write), ROW(near_null), ROW(null_call), ROW(wild), ROW(division), ROW(trap), ROW(constant), ROW(string_null), ROW(callback), ROW(raised), ROW(long_chain), ROW(thread), ROW(jump_data), ROW(library), ROW(hang) };
int main(int count, char **words) {
    if (count < 4) return 2;
    kind_of_dump = (int)strtol(words[2], 0, 0); strcpy(path, words[3]);
    SetUnhandledExceptionFilter(filter);
    for (unsigned i = 0; i < sizeof rows / sizeof *rows; i++) if (!strcmp(words[1], rows[i].name)) return rows[i].run(0) + zero;
    return 2;
}
