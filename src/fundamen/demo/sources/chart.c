#include "saltgrass.h"

void sg_chart_bar(char *text, int size, int value, int of) {
    int length = sg_clamp(value * (size - 1) / of, 0, size - 1);
    for (int i = 0; i < length; i++)
        text[i] = '=';
    text[length] = 0;
}
