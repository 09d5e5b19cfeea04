/* A generated robot on a chip, told by a serial line what comes and answering with what it makes of it: for proofs only.
 *
 * B ms: begin. P input float: put. F ms link: a frame. X, R: emergency stop, reset. S ms: a step; answers with state,
 * reason, power, sends, and each output as a float. Pin 13 is on during a step.
 */
#include <avr/io.h>

#include "../robot_board.h"

static uint8_t next(void) {
    while (!(UCSR0A & 1 << RXC0)) continue;
    return UDR0;
}

static void say(uint8_t byte) {
    while (!(UCSR0A & 1 << UDRE0)) continue;
    UDR0 = byte;
}

static uint32_t number(void) {
    uint32_t found = 0;
    uint8_t byte;
    for (byte = 0; byte < 32; byte = (uint8_t)(byte + 8)) found |= (uint32_t)next() << byte;
    return found;
}

static void step(uint32_t now) {
    uint8_t output, part;
    PORTB |= 1 << 5;
    robot_step(now);
    PORTB &= (uint8_t)~(1 << 5);
    say((uint8_t)robot_is()), say((uint8_t)robot_why()), say(robot_powered()), say(robot_sends());
    for (output = 0; output < ROBOT_OUTPUTS; output++) {
        union { robot_real real; uint8_t bytes[4]; } made;
        made.real = robot_get((enum robot_output)output);
        for (part = 0; part < 4; part++) say(made.bytes[part]);
    }
}

int main(void) {
    DDRB = 1 << 5;
    UBRR0 = 0, UCSR0A = 1 << U2X0, UCSR0B = 1 << RXEN0 | 1 << TXEN0;
    for (;;) {
        union { uint32_t bits; robot_real real; } value;
        uint8_t what = next(), input;
        switch (what) {
        case 'B': robot_begin(number()); break;
        case 'P':
            input = next();
            value.bits = number();
            robot_put((enum robot_input)input, value.real);
            break;
        case 'F':
            value.bits = number();
            robot_frame(value.bits, next() != 0);
            break;
        case 'X': robot_emergency_stop(); break;
        case 'R': robot_reset(); break;
        case 'S': step(number()); break;
        default: break;
        }
    }
}
