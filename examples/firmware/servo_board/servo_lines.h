/* Lines of servo pulses both ways (docs/protocols.md): a small board between a radio receiver, servos and a computer.
 *
 * Portable C99: no heap, no floating point, no library but <stdint.h>, <stdbool.h>. It knows no pins: see board_avr.c.
 */
#ifndef SERVO_LINES_H
#define SERVO_LINES_H

#include <stdbool.h>
#include <stdint.h>

#define SERVO_LINES_LONGEST 80
#define SERVO_LINES_MOST 8
#define SERVO_SHORTEST 700
#define SERVO_LONGEST 2300
#define SERVO_NEUTRAL 1500
/* Without a line that holds, pulses go to neutral; after so long, ms, they end, and a motor's controller switches off. */
#define SERVO_SILENT_AFTER 1000

typedef struct {
    uint16_t pulse[SERVO_LINES_MOST]; /* of the newest good line, us */
    uint8_t pulses;                   /* so many */
    bool power;
    uint32_t good, bad; /* lines so far */
    /* What follows is its own affair. */
    char text[SERVO_LINES_LONGEST];
    uint8_t length, counter, drives;
    bool too_long, heard, latched;
    uint32_t came, valid; /* ms */
} servo_lines;

/* Begin latched: nothing moves before a line was neutral. drives: a bit for each channel that moves the robot. */
void servo_lines_begin(servo_lines *lines, uint8_t drives);

/* Take a byte of the computer's line. now: a clock in ms that may roll over. Gives true when a good, new line ended. */
bool servo_lines_byte(servo_lines *lines, char byte, uint32_t now);

/* The pulse that a channel gets now, us; 0 for none. */
uint16_t servo_lines_pulse(servo_lines *lines, uint8_t channel, uint32_t now);

/* Write measured pulses as a line with its checksum; returns its length. text has room for SERVO_LINES_LONGEST. */
uint8_t servo_lines_write(const uint16_t *pulse, uint8_t pulses, char *text);

#endif
