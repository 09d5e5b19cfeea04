/* The board on a simulated chip (simavr): wires, servos and the serial line are lines of text.
 *
 * Reads from standard input, in order of time:   W us wire level    a level on one of the receiver's wires
 *                                                U us byte          a byte that the computer sends
 *                                                E us               the end
 * Writes to standard output:                     S us servo level   an edge on a servo's pin
 *                                                B us byte          a byte that the board sends
 *
 *   cc -std=c99 on_a_chip.c -lsimavr -o on_a_chip && ./on_a_chip servo_board.elf
 */
#include <stdint.h>
#include <stdio.h>
#include <stdlib.h>

#include <simavr/avr_ioport.h>
#include <simavr/avr_uart.h>
#include <simavr/sim_avr.h>
#include <simavr/sim_elf.h>

#define CYCLES_PER_US 16

static avr_t *chip;

static double now_us(void)
{
    return (double)chip->cycle / CYCLES_PER_US;
}

static void on_servo(struct avr_irq_t *irq, uint32_t value, void *param)
{
    (void)irq;
    printf("S %.2f %d %u\n", now_us(), *(int *)param, (unsigned)value);
}

static void on_byte(struct avr_irq_t *irq, uint32_t value, void *param)
{
    (void)irq, (void)param;
    printf("B %.2f %u\n", now_us(), (unsigned)value & 0xFF);
}

int main(int argc, char **argv)
{
    elf_firmware_t program = {0};
    static int servo[6] = {0, 1, 2, 3, 4, 5};
    uint32_t flags = 0;
    char kind;
    double at;
    if (argc < 2 || elf_read_firmware(argv[1], &program))
        return 2;
    chip = avr_make_mcu_by_name("atmega328p");
    if (!chip)
        return 2;
    avr_init(chip);
    avr_load_firmware(chip, &program);
    chip->frequency = CYCLES_PER_US * 1000000;
    avr_ioctl(chip, AVR_IOCTL_UART_GET_FLAGS('0'), &flags);
    flags &= ~(uint32_t)(AVR_UART_FLAG_STDIO | AVR_UART_FLAG_POLL_SLEEP);
    avr_ioctl(chip, AVR_IOCTL_UART_SET_FLAGS('0'), &flags);
    for (int i = 0; i < 6; i++)
        avr_irq_register_notify(avr_io_getirq(chip, AVR_IOCTL_IOPORT_GETIRQ('D'), i + 2), on_servo, &servo[i]);
    avr_irq_register_notify(avr_io_getirq(chip, AVR_IOCTL_UART_GETIRQ('0'), UART_IRQ_OUTPUT), on_byte, NULL);
    avr_irq_t *input = avr_io_getirq(chip, AVR_IOCTL_UART_GETIRQ('0'), UART_IRQ_INPUT);
    while (scanf(" %c %lf", &kind, &at) == 2) {
        int first = 0, second = 0;
        if (kind == 'W' && scanf("%d %d", &first, &second) != 2)
            return 2;
        if (kind == 'U' && scanf("%d", &first) != 1)
            return 2;
        while (now_us() < at)
            if (avr_run(chip) == cpu_Done || chip->state == cpu_Crashed)
                return 1;
        if (kind == 'W')
            avr_raise_irq(avr_io_getirq(chip, AVR_IOCTL_IOPORT_GETIRQ('C'), first), (uint32_t)second);
        else if (kind == 'U')
            avr_raise_irq(input, (uint32_t)first);
        else
            break;
    }
    return 0;
}
