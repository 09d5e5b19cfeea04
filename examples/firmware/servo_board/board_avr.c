/* An 8-bit AVR board (ATmega328P, 16 MHz) between servo wires and a computer, both ways at once.
 *
 *   receiver's wires -> A0 A1 A2 A3  ->  a line of pulses and a checksum each 20 ms, at 115200 baud
 *   lines of pulses                  ->  servos or motor controllers on pins 2 to 7
 *
 *   avr-gcc -mmcu=atmega328p -DF_CPU=16000000UL -Os -std=c99 board_avr.c servo_lines.c -o servo_board.elf
 *
 * A wire that has had no pulse for a while ends the lines, and with them the link. See docs/protocols.md.
 */
#include <avr/interrupt.h>
#include <avr/io.h>

#include "servo_lines.h"

#ifndef WIRES
#define WIRES 4 /* receiver's wires, from A0 on */
#endif
#define SERVOS 6      /* on pins 2 to 7 */
#define TICKS_PER_US 2 /* timer 1 counts at 2 MHz */
#define FRAME_US 20000
#define DRIVES 0x3F   /* every servo's channel moves the robot */
#define STALE_MS 60   /* so old a wire's newest pulse may be */

static volatile uint32_t milliseconds;
static volatile uint16_t width[WIRES];
static volatile uint32_t measured[WIRES];
static volatile bool ever[WIRES];
static volatile uint16_t wanted[SERVOS];
static volatile uint8_t received[64], received_to, received_from;
static servo_lines lines;

ISR(TIMER0_COMPA_vect)
{
    milliseconds++;
}

/* An edge on one of the receiver's wires. */
ISR(PCINT1_vect)
{
    static uint8_t before;
    static uint16_t rise[WIRES];
    uint16_t now = TCNT1;
    uint8_t level = PINC, changed = (uint8_t)(level ^ before);
    before = level;
    for (uint8_t i = 0; i < WIRES; i++) {
        if (!(changed >> i & 1))
            continue;
        if (level >> i & 1) {
            rise[i] = now;
            continue;
        }
        uint16_t us = (uint16_t)(now - rise[i] + TICKS_PER_US / 2) / TICKS_PER_US;
        if (us >= SERVO_SHORTEST && us <= SERVO_LONGEST) {
            width[i] = us;
            measured[i] = milliseconds;
            ever[i] = true;
        }
    }
}

/* One servo after another gets its pulse; what is left of the 20 ms is a pause. */
ISR(TIMER1_COMPA_vect)
{
    static uint8_t servo = SERVOS, pins;
    static uint16_t used, us = 100;
    /* What was worked out last time goes out first: so every edge comes equally long after its moment. */
    PORTD = (uint8_t)((PORTD & 0x03) | pins);
    OCR1A = (uint16_t)(OCR1A + TICKS_PER_US * us);
    servo = servo < SERVOS ? (uint8_t)(servo + 1) : 0;
    if (!servo)
        used = 0;
    us = servo < SERVOS ? wanted[servo] : (uint16_t)(FRAME_US - used);
    pins = servo < SERVOS && us ? (uint8_t)(4 << servo) : 0;
    if (!us)
        us = 100;
    used = (uint16_t)(used + us);
}

ISR(USART_RX_vect)
{
    uint8_t next = (uint8_t)((received_to + 1) % sizeof received);
    uint8_t byte = UDR0;
    if (next != received_from) {
        received[received_to] = byte;
        received_to = next;
    }
}

static uint32_t now_ms(void)
{
    uint8_t state = SREG;
    cli();
    uint32_t now = milliseconds;
    SREG = state;
    return now;
}

/* Reads the newest pulses; false where a wire is silent. */
static bool pulses_of_wires(uint16_t *pulse, uint32_t now)
{
    bool all = true;
    uint8_t state = SREG;
    cli();
    for (uint8_t i = 0; i < WIRES; i++) {
        pulse[i] = width[i];
        all = all && ever[i] && now - measured[i] < STALE_MS;
    }
    SREG = state;
    return all;
}

static void set_servos(uint32_t now)
{
    for (uint8_t i = 0; i < SERVOS; i++) {
        uint16_t pulse = servo_lines_pulse(&lines, i, now);
        uint8_t state = SREG;
        cli();
        wanted[i] = pulse;
        SREG = state;
    }
}

int main(void)
{
    char text[SERVO_LINES_LONGEST];
    uint8_t length = 0, sent = 0;
    uint32_t last = 0;
    servo_lines_begin(&lines, DRIVES);
    DDRD = 0xFC;
    PORTC = (1 << WIRES) - 1; /* a wire that is off is high, and has no edges */
    PCMSK1 = (1 << WIRES) - 1;
    PCICR = 1 << PCIE1;
    TCCR0A = 1 << WGM01, TCCR0B = 1 << CS01 | 1 << CS00, OCR0A = F_CPU / 64 / 1000 - 1, TIMSK0 = 1 << OCIE0A;
    TCCR1B = 1 << CS11, TIMSK1 = 1 << OCIE1A;
    UBRR0 = 16, UCSR0A = 1 << U2X0, UCSR0B = 1 << RXEN0 | 1 << TXEN0 | 1 << RXCIE0; /* 117647 baud: 2 % fast */
    sei();
    for (;;) {
        uint32_t now = now_ms();
        while (received_from != received_to) {
            char byte = (char)received[received_from];
            received_from = (uint8_t)((received_from + 1) % sizeof received);
            servo_lines_byte(&lines, byte, now);
        }
        set_servos(now);
        if (now - last >= 20) {
            uint16_t pulse[WIRES];
            last = now;
            if (sent == length && pulses_of_wires(pulse, now))
                length = servo_lines_write(pulse, WIRES, text), sent = 0;
        }
        if (sent < length && (UCSR0A & 1 << UDRE0))
            UDR0 = (uint8_t)text[sent++];
    }
}
