#include "saltgrass.h"

/* One tide of twelve hours, in straight lines: low water at 0 and 12, high water at 6. */
int sg_tide_height(int hour) {
    int of_tide = hour % 12;
    int from_low = of_tide < 6 ? of_tide : 12 - of_tide;
    return sg_clamp(60 + from_low * 65, 0, 450);
}
