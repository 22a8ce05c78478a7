#define OWN __attribute__((noinline))
#define STAY __asm__ volatile("" ::: "memory")
volatile int feeder_zero;
OWN int feeder_fill(int n) { *(volatile int *)(long)feeder_zero = n; STAY; return n; }
OWN int feeder_push(int n) { int r = feeder_fill(n + 1); STAY; return r; }
OWN int feeder_call(int (*back)(int), int n) { int r = back(n + 1); STAY; return r; }
