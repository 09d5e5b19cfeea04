/* Reads velocity lines (docs/protocols.md) on a microcontroller, and says when to stop.
 *
 * Portable C99: no heap, no floating point, no library but <stdint.h>, <stdbool.h>. Pass every byte of the serial line
 * as it comes, and call velocity_line_may_move() each time before the motors are set. No line is stored: each byte is
 * processed at once.
 */
#ifndef VELOCITY_LINE_H
#define VELOCITY_LINE_H

#include <stdbool.h>
#include <stdint.h>

#define VELOCITY_LINE_LONGEST 96
#define VELOCITY_LINE_OUTPUTS 8
#define VELOCITY_LINE_NUMBERS 4

typedef struct {
    /* The newest good line: mm/s forward, left and up; mrad/s to the left. */
    int32_t vx, vy, vz, yaw_rate;
    bool power;        /* the outputs may have power */
    uint8_t outputs;   /* number of levels in it, in thousandths, in the order of the profile's sink */
    int16_t output[VELOCITY_LINE_OUTPUTS];
    uint32_t good, bad; /* number of lines */
    /* The rest is private: the state of the link, and of the line that is being received. */
    bool heard, latched;
    uint8_t counter;
    uint32_t came, valid; /* ms */
    bool broken, returned, minus, decimal, hexadecimal, moves;
    uint8_t length, words, letters;
    uint16_t crc, crc_before, hex;
    int32_t number;
    int32_t field[7 + VELOCITY_LINE_OUTPUTS]; /* counter, vx, vy, vz, yaw rate, valid, power, levels */
} velocity_line;

/* What the robot reports. */
typedef struct {
    uint8_t why;                   /* 0: it follows if it may; else a reason of its own, 4 to 255 */
    uint16_t millivolts;           /* of its battery, 0 if it is not measured */
    uint8_t wheels, distances;     /* number of measured ones, up to 4 */
    int32_t wheel[VELOCITY_LINE_NUMBERS];     /* mrad/s */
    int32_t distance[VELOCITY_LINE_NUMBERS];  /* mm */
    const char *made_from;                    /* the digest of the profile of generated code, 8 characters, or NULL */
} velocity_line_report;

/* Begin stopped: nothing moves before a standstill was received. */
void velocity_line_begin(velocity_line *line);

/* Take a byte. now: a clock in ms that may wrap. Returns true if it completed a good, new line. */
bool velocity_line_byte(velocity_line *line, char byte, uint32_t now);

/* The same, but it leaves the numbers in line->field, where they stay until the next byte, and does not set vx ... output. */
bool velocity_line_numbers(velocity_line *line, char byte, uint32_t now);

/* Whether no good line has come, or the newest one is too old. */
bool velocity_line_expired(const velocity_line *line, uint32_t now);

/* Whether the robot may follow vx … yaw_rate. Once it may not, it may not until a line was all standstill. */
bool velocity_line_may_move(velocity_line *line, uint32_t now);

/* Write an answer line into text, which has room for VELOCITY_LINE_LONGEST; returns its length, with the newline. */
uint16_t velocity_line_answer(velocity_line *line, const velocity_line_report *report, uint32_t now, char *text);

/* The same in two steps, for a robot that measures neither wheels nor distances. begin returns where the text goes on;
 * end writes the digest, if it is not NULL, and the checksum, and returns the length. */
uint8_t velocity_line_answer_begin(velocity_line *line, uint8_t why, uint16_t millivolts, uint32_t now, char *text);
uint8_t velocity_line_answer_end(char *text, uint8_t at, const char *made_from);

#endif
