/* The hull without a vector table. */
#define used unused
#include "hull.c"
