/* For a core without a divider: the compiler's library divides. */
volatile unsigned a = 100, b = 7;
volatile float f = 2.5f, g = 1.5f;

int main(void)
{
    for (;;) {
        a += 3;
        b ^= a;
        a /= b;
        f = f * g - g;
    }
}

__attribute__((noreturn)) void start(void)
{
    main();
    for (;;) {
    }
}

extern char stack_top[];
__attribute__((section(".vectors"), used)) static void *const vectors[2] = { stack_top, (void *)start };
