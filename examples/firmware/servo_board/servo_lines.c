#include "servo_lines.h"

/* CRC-16: polynomial 0x1021, initial value 0xFFFF, not reflected, no final XOR. */
static uint16_t checksum(const char *text, uint8_t length)
{
    uint16_t crc = 0xFFFF;
    for (uint8_t i = 0; i < length; i++) {
        crc ^= (uint16_t)((uint16_t)(uint8_t)text[i] << 8);
        for (uint8_t bit = 0; bit < 8; bit++)
            crc = (uint16_t)((crc & 0x8000) ? (crc << 1) ^ 0x1021 : crc << 1);
    }
    return crc;
}

/* Reads a whole number at *at, which must be followed by a space or the end; moves *at behind the space. */
static bool number(const char *text, uint8_t end, uint8_t *at, uint16_t *value)
{
    uint8_t i = *at;
    uint16_t sum = 0;
    while (i < end && text[i] >= '0' && text[i] <= '9' && i - *at < 4)
        sum = (uint16_t)(10 * sum + (uint16_t)(text[i++] - '0'));
    if (i == *at || (i < end && text[i] != ' '))
        return false;
    *value = sum;
    *at = (uint8_t)(i + 1);
    return true;
}

static bool in_time(const servo_lines *lines, uint32_t now)
{
    return lines->heard && now - lines->came < lines->valid;
}

static bool is_neutral(const servo_lines *lines)
{
    for (uint8_t i = 0; i < lines->pulses; i++)
        if ((lines->drives >> i & 1) && lines->pulse[i] != SERVO_NEUTRAL && lines->pulse[i] != 0)
            return false;
    return true;
}

/* P counter valid_ms power pulse... CRC */
static bool parse(servo_lines *lines, uint32_t now)
{
    const char *text = lines->text;
    uint8_t length = lines->length;
    if (length && text[length - 1] == '\r')
        length--;
    if (length < 8 || text[0] != 'P' || text[1] != ' ' || text[length - 5] != ' ')
        return false;
    uint16_t crc = 0;
    for (uint8_t i = (uint8_t)(length - 4); i < length; i++) {
        char digit = text[i];
        if (digit >= '0' && digit <= '9')
            crc = (uint16_t)(crc << 4 | (uint16_t)(digit - '0'));
        else if (digit >= 'A' && digit <= 'F')
            crc = (uint16_t)(crc << 4 | (uint16_t)(digit - 'A' + 10));
        else
            return false;
    }
    length = (uint8_t)(length - 5);
    if (crc != checksum(text, length))
        return false;
    uint16_t value[3 + SERVO_LINES_MOST];
    uint8_t at = 2, count = 0;
    while (at < length && count < 3 + SERVO_LINES_MOST) {
        if (!number(text, length, &at, &value[count]))
            return false;
        count++;
    }
    if (at != length + 1 || count < 4 || value[0] > 255 || value[2] > 1)
        return false;
    for (uint8_t i = 3; i < count; i++)
        if (value[i] && (value[i] < SERVO_SHORTEST || value[i] > SERVO_LONGEST))
            return false;
    if (lines->heard && (uint8_t)value[0] == lines->counter)
        return true; /* a repetition: well formed, and nothing new */
    if (!in_time(lines, now))
        lines->latched = true; /* it was silent for too long: only neutral begins again */
    lines->heard = true;
    lines->counter = (uint8_t)value[0];
    lines->valid = value[1], lines->power = value[2] == 1, lines->came = now;
    lines->pulses = (uint8_t)(count - 3);
    for (uint8_t i = 3; i < count; i++)
        lines->pulse[i - 3] = value[i];
    lines->good++;
    if (is_neutral(lines))
        lines->latched = false;
    return true;
}

void servo_lines_begin(servo_lines *lines, uint8_t drives)
{
    *lines = (servo_lines){.latched = true, .drives = drives};
}

bool servo_lines_byte(servo_lines *lines, char byte, uint32_t now)
{
    uint32_t good = lines->good;
    if (byte != '\n') {
        if (lines->length < SERVO_LINES_LONGEST)
            lines->text[lines->length++] = byte;
        else
            lines->too_long = true;
        return false;
    }
    if (lines->length && (lines->too_long || !parse(lines, now)))
        lines->bad++;
    lines->length = 0;
    lines->too_long = false;
    return lines->good != good;
}

uint16_t servo_lines_pulse(servo_lines *lines, uint8_t channel, uint32_t now)
{
    if (!lines->heard || channel >= lines->pulses || !lines->power)
        return 0;
    if (in_time(lines, now) && !lines->latched)
        return lines->pulse[channel];
    if (now - lines->came >= lines->valid + SERVO_SILENT_AFTER) {
        lines->heard = false; /* so that a clock that rolls over does not revive it */
        lines->latched = true;
        return 0;
    }
    return (lines->drives >> channel & 1) ? SERVO_NEUTRAL : lines->pulse[channel];
}

uint8_t servo_lines_write(const uint16_t *pulse, uint8_t pulses, char *text)
{
    uint8_t length = 0;
    for (uint8_t i = 0; i < pulses; i++) {
        uint16_t value = pulse[i], unit = 1000;
        if (i)
            text[length++] = ',';
        while (unit > 1 && value < unit)
            unit /= 10;
        for (; unit; unit /= 10)
            text[length++] = (char)('0' + value / unit % 10);
    }
    uint16_t crc = checksum(text, length);
    text[length++] = ' ';
    for (int8_t shift = 12; shift >= 0; shift = (int8_t)(shift - 4))
        text[length++] = "0123456789ABCDEF"[crc >> shift & 0xF];
    text[length++] = '\n';
    return length;
}
