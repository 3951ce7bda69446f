/* Names of C++. */
typedef unsigned long long count_t;

namespace wave {
struct height {
    int mm;
    static int limit;
};
int height::limit = 9;
height operator""_mm(count_t mm) { return {int(mm)}; }

template <class T, int N> struct log {
    T slot[N];
    unsigned head;
    __attribute__((noinline)) void add(const T &value) { slot[head++ % N] = value; }
};
log<int, 4> heights;
static volatile int level = 5;
namespace {
volatile int level_hidden = 6;
__attribute__((noinline)) int hidden(int x) { return x * level_hidden; }
}
namespace swell {
volatile int level = 7;
}

struct base {
    int kind;
    virtual int measure(int x) { return x; }
};
struct heave : base {
    int k = 3;
    int measure(int x) override { return x * k; }
};
heave the_heave;

template <class F> __attribute__((noinline)) int each(F f, int n)
{
    int sum = 0;
    for (int i = 0; i < n; i++)
        sum += f(i);
    return sum;
}
int run(int n)
{
    static int count;
    count += n;
    heights.add(n);
    base *one = &the_heave;
    return each([n](int i) { return i * n; }, count) + each([](auto x) { return x + 1; }, n) + hidden(n)
        + one->measure(level + swell::level) + (4_mm).mm;
}
int walk(int n)
{
    static int count;
    return count += n;
}
}

extern "C" int quoted(int x) __asm__("\"say;hello\"");
extern "C" __attribute__((noinline, section(".text.quoted"))) int quoted(int x) { return x + 1; }

extern "C" __attribute__((noreturn)) void start(void)
{
    for (;;)
        wave::height::limit += wave::run(wave::walk(quoted(3)));
}

extern "C" char stack_top[];
__attribute__((section(".vectors"), used)) static void *const vectors[2] = { stack_top, (void *)start };
