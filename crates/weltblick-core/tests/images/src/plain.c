/* Built without debug information: nothing may be said of its lines. */
__attribute__((noinline)) int first(int x) { return x * 7 + 3; }
__attribute__((noinline)) int second(int x) { for (int i = 0; i < 9; i++) x = first(x ^ i); return x; }
int kept(int x);
int third(int x) { return kept(second(x)) - first(x); }
__attribute__((noreturn)) void start(void) { for (;;) *(volatile int *)0x20000000 = third(*(volatile int *)0x20000004); }
