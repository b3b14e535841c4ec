/* Tidebook: the tide table of the made-up harbour of Marram Sound. */
#include "saltgrass.h"

#ifdef _WIN32
__declspec(dllimport) void *__stdcall GetStdHandle(unsigned long which);
__declspec(dllimport) int __stdcall WriteFile(void *file, const void *data, unsigned long size, unsigned long *written, void *overlapped);
__declspec(dllimport) void __stdcall ExitProcess(unsigned int status);

static void write_text(const char *text, int size) {
    unsigned long written;
    WriteFile(GetStdHandle((unsigned long)-11), text, (unsigned long)size, &written, 0);
}
#else
#include <unistd.h>

static void write_text(const char *text, int size) {
    if (write(1, text, (unsigned long)size) != size)
        _exit(1);
}
#endif

static void say(const char *text) {
    int size = 0;
    while (text[size])
        size++;
    write_text(text, size);
}

static void say_number(int number, int width) {
    char digits[12];
    int at = width;
    for (int i = 0; i < width; i++)
        digits[i] = ' ';
    do
        digits[--at] = (char)('0' + number % 10);
    while ((number /= 10) && at);
    write_text(digits, width);
}

static int tidebook(void) {
    char bar[41];
    say("Tidebook, tides at Marram Sound (");
    say(sg_zone_name());
    say(")\n");
    for (int hour = 0; hour < 24; hour += 3) {
        int height = sg_clamp(sg_tide_height(hour), 0, 450);
        say_number(hour, 4);
        say(":00 ");
        say_number(height, 4);
        say(" cm  ");
        sg_chart_bar(bar, sizeof bar, height, 450);
        say(bar);
        say("\n");
    }
    return 0;
}

#ifdef _WIN32
void start(void) {
    ExitProcess((unsigned int)tidebook());
}
#else
int main(void) {
    return tidebook();
}
#endif
