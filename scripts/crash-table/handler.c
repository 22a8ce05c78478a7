// A program without the C library: its handler of a fault ends it, so that what failed stands behind the frame of the signal.
#define OWN __attribute__((noinline))
#define STAY __asm__ volatile("" ::: "memory")
#if defined __i386__
static int call(int number, long a, long b, long c, long d) { int r; __asm__ volatile("int $0x80" : "=a"(r) : "a"(number), "b"(a), "c"(b), "d"(c), "S"(d) : "memory"); return r; }
enum { SIGACTION = 174, GETPID = 20, KILL = 37 };
__asm__(".globl give_back\ngive_back: movl $173, %eax\nint $0x80");
#else
static long call(long number, long a, long b, long c, long d) { register long x8 __asm__("x8") = number, x0 __asm__("x0") = a, x1 __asm__("x1") = b, x2 __asm__("x2") = c, x3 __asm__("x3") = d; __asm__ volatile("svc 0" : "+r"(x0) : "r"(x8), "r"(x1), "r"(x2), "r"(x3) : "memory"); return x0; }
enum { SIGACTION = 134, GETPID = 172, KILL = 129 };
__asm__(".globl give_back\ngive_back: mov x8, #139\nsvc #0");
#endif
void give_back(void);
struct action { void (*handler)(int); unsigned long flags; void (*restorer)(void); unsigned long mask[2]; };
#if !defined __i386__
enum { FLAGS = 0x04000000 };
#else
enum { FLAGS = 0x04000004 };
#endif
volatile int zero;
OWN void on_fault(int number) { (void)number; call(KILL, call(GETPID, 0, 0, 0, 0), 6, 0, 0); STAY; }
OWN int pump_push(int n) { *(volatile int *)(long)zero = n; STAY; return n; }
OWN int pump_start(int n) { int r = pump_push(n + 1); STAY; return r + 1; }
void _start(void) { struct action a = { on_fault, FLAGS, give_back, { 0, 0 } }; call(SIGACTION, 11, (long)&a, 0, 8); pump_start(1); for (;;) ; }
