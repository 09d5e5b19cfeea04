/* Reads short binary commands (docs/protocols.md, "Short frames") on a microcontroller, plain or signed, says when to
 * stop, and writes answers.
 *
 * Portable C99: no heap, no floating point, no library but <stdint.h>, <stdbool.h>, <string.h>. Hand it every byte as it
 * comes, and ask velocity_frame_may_move() each time before the motors are set.
 */
#ifndef VELOCITY_FRAME_H
#define VELOCITY_FRAME_H

#include <stdbool.h>
#include <stdint.h>

#define VELOCITY_FRAME_LONGEST 38
#define VELOCITY_FRAME_KEY 32
/* A signed command counts if it repeats what this robot's clock said no longer ago, ms. */
#define VELOCITY_FRAME_MOST_AGE 500
/* After this silence another driver's program may drive, ms. It is longer, so nothing of the last one counts any more. */
#define VELOCITY_FRAME_LET_GO 1000

typedef struct {
    /* The newest good command: mm/s forward, left and up; mrad/s to the left. */
    int16_t vx, vy, vz, yaw_rate;
    bool power;         /* the outputs may have power */
    uint32_t good;      /* commands so far */
    uint32_t refused;   /* signed well, and for another session, too old, no later than the one before, or of
                         * a second driver; one that only asks for an answer is not among them */
    /* What follows is its own affair. */
    const uint8_t *key;
    uint32_t session, began;
    uint32_t run, number;             /* of the driver's program, and of its newest command that counted */
    uint32_t asked_run, asked_number; /* what an answer repeats, so that the driver knows how new it is */
    uint8_t bytes[VELOCITY_FRAME_LONGEST];
    uint8_t length, counter;
    bool heard, latched;
    uint32_t came, valid; /* ms */
} velocity_frame;

/* What the robot says of itself. */
typedef struct {
    uint8_t why;              /* 0: it follows if it may; else a reason of its own, 4 to 255 */
    uint16_t millivolts;      /* of its battery, 0 where it is not measured */
    bool has_wheels, has_distance;
    int32_t left, right;      /* mrad/s */
    uint16_t distance;        /* mm */
} velocity_frame_report;

/* Begin stopped. key: NULL for plain frames, or 32 bytes for signed ones, which must stay where they are.
 * session: for signed frames a number that no start of this robot had before, and not 0. now: a clock in ms that may roll over. */
void velocity_frame_begin(velocity_frame *frame, const uint8_t *key, uint32_t session, uint32_t now);

/* Take a byte. Gives true when it completed a good, new command. */
bool velocity_frame_byte(velocity_frame *frame, uint8_t byte, uint32_t now);

/* Whether the robot may follow vx … yaw_rate. Once it may not, it may not until a command was all standstill. */
bool velocity_frame_may_move(velocity_frame *frame, uint32_t now);

/* Write an answer: 12 bytes, signed 34; returns how many. Signed, write one ten times a second, commands or not. */
uint8_t velocity_frame_answer(velocity_frame *frame, const velocity_frame_report *report, uint32_t now, uint8_t *bytes);

#endif
