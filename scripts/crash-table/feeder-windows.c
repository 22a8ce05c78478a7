volatile int feeder_zero;
__attribute__((noinline)) int feeder_fill(int n) { *(volatile int *)(unsigned long long)feeder_zero = n; __asm__ volatile("" ::: "memory"); return n; }
__declspec(dllexport) int feeder_push(int n) { int r = feeder_fill(n + 1); __asm__ volatile("" ::: "memory"); return r; }
