#include "saltgrass.h"

const char *sg_zone_name(void) {
    return "Marram Sound time";
}
