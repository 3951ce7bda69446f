/* Paths as a compiler under Windows writes them. */
#line 10 "C:\\buoy\\src\\dsp\\heave.c"
static volatile int heave_level;
static int heave_rise(int by) { return heave_level += by; }
#line 20 ".\\src\\start.c"
__attribute__((noreturn)) void start(void) { for (;;) { heave_rise(3); *(volatile int *)0x20000040 = 1; } }
