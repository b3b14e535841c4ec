#include "saltgrass.h"

int sg_clamp(int value, int least, int most) {
    return value < least ? least : value > most ? most : value;
}
