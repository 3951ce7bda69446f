/* The mooring: a static of the same name as in the hull, and copies of a function. */
#include "station.h"

static volatile int level = 44;

int unused_third(int x)
{
    return x * level;
}

static __attribute__((noinline)) int clamp(int value, int low, int high)
{
    level += value;
    return value < low ? low : value > high ? high : value;
}

int mooring_load(struct station *station, int raw)
{
    station->cell[1].raw = (unsigned short)clamp(raw, 0, 4095);
    station->flags.wide = (unsigned)scaled(raw, 3);
    return clamp(raw * 3, 0, 4095) + level;
}

/* The same code twice: a linker may keep one of them. */
__attribute__((noinline)) int mooring_port(int strain)
{
    return strain * 5 + scaled(strain, 2);
}

__attribute__((noinline)) int mooring_starboard(int strain)
{
    return strain * 5 + scaled(strain, 2);
}

int mooring_slack(int length)
{
    return scaled(length, 9) / 7 + level + mooring_port(length) - mooring_starboard(level);
}
