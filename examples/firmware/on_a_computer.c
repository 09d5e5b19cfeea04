/* The sketch on a computer instead of a microcontroller: reads its line from standard input, and writes to standard
 * error what the motors would be told, a line for each change. Ends with its input.
 *
 *   cc -std=c99 on_a_computer.c velocity_line.c -o on_a_computer
 */
#define _POSIX_C_SOURCE 200809L
#include <poll.h>
#include <stdio.h>
#include <time.h>
#include <unistd.h>

#include "velocity_line.h"

static uint32_t milliseconds(void)
{
    struct timespec now;
    clock_gettime(CLOCK_MONOTONIC, &now);
    return (uint32_t)(now.tv_sec * 1000 + now.tv_nsec / 1000000);
}

int main(void)
{
    velocity_line line;
    velocity_line_report report = {.millivolts = 12000};
    char text[VELOCITY_LINE_LONGEST];
    int32_t told_vx = -1, told_yaw_rate = 0;
    velocity_line_begin(&line);
    for (;;) {
        struct pollfd input = {.fd = 0, .events = POLLIN};
        char bytes[256];
        if (poll(&input, 1, 5) > 0) {
            ssize_t count = read(0, bytes, sizeof bytes);
            if (count <= 0)
                return 0;
            for (ssize_t i = 0; i < count; i++)
                if (velocity_line_byte(&line, bytes[i], milliseconds())) {
                    uint16_t length = velocity_line_answer(&line, &report, milliseconds(), text);
                    (void)!write(1, text, length);
                }
        }
        bool moves = velocity_line_may_move(&line, milliseconds());
        int32_t vx = moves ? line.vx : 0, yaw_rate = moves ? line.yaw_rate : 0;
        if (vx != told_vx || yaw_rate != told_yaw_rate)
            fprintf(stderr, "%u %ld %ld\n", (unsigned)milliseconds(), (long)vx, (long)yaw_rate);
        told_vx = vx, told_yaw_rate = yaw_rate;
    }
}
