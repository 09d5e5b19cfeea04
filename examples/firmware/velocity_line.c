#include "velocity_line.h"

/* CRC-16: polynomial 0x1021, initial value 0xFFFF, not reflected, no final XOR. */
static uint16_t checksum(const char *text, uint16_t length)
{
    uint16_t crc = 0xFFFF;
    for (uint16_t i = 0; i < length; i++) {
        crc ^= (uint16_t)((uint16_t)(uint8_t)text[i] << 8);
        for (int bit = 0; bit < 8; bit++)
            crc = (uint16_t)((crc & 0x8000) ? (crc << 1) ^ 0x1021 : crc << 1);
    }
    return crc;
}

/* Reads a whole number at *at, which must be followed by a space or the end; moves *at behind the space. */
static bool number(const char *text, uint16_t end, uint16_t *at, int32_t *value)
{
    bool minus = *at < end && text[*at] == '-';
    uint16_t i = (uint16_t)(*at + minus), first = i;
    int32_t sum = 0;
    while (i < end && text[i] >= '0' && text[i] <= '9' && i - first < 6)
        sum = 10 * sum + (text[i++] - '0');
    if (i == first || (i < end && text[i] != ' '))
        return false;
    *value = minus ? -sum : sum;
    *at = (uint16_t)(i + 1);
    return true;
}

static bool parse(velocity_line *line, uint32_t now)
{
    const char *text = line->text;
    uint16_t length = line->length;
    if (length && text[length - 1] == '\r')
        length--;
    if (length < 8 || text[0] != 'V' || text[1] != ' ' || text[length - 5] != ' ')
        return false;
    uint16_t crc = 0;
    for (uint16_t i = (uint16_t)(length - 4); i < length; i++) {
        char digit = text[i];
        if (digit >= '0' && digit <= '9')
            crc = (uint16_t)(crc << 4 | (uint16_t)(digit - '0'));
        else if (digit >= 'A' && digit <= 'F')
            crc = (uint16_t)(crc << 4 | (uint16_t)(digit - 'A' + 10));
        else
            return false;
    }
    length = (uint16_t)(length - 5);
    if (crc != checksum(text, length))
        return false;
    int32_t value[7 + VELOCITY_LINE_OUTPUTS]; /* counter, vx, vy, vz, yaw rate, valid, power, levels */
    uint16_t at = 2;
    int count = 0;
    while (count < 7 || (at < length && count < 7 + VELOCITY_LINE_OUTPUTS)) {
        if (!number(text, length, &at, &value[count]))
            return false;
        if (count >= 7 && (value[count] < -1000 || value[count] > 1000))
            return false;
        count++;
    }
    if (at != length + 1 || value[0] < 0 || value[0] > 255 || value[5] < 0)
        return false;
    if (line->heard && (uint8_t)value[0] == line->counter)
        return true; /* a repetition: well formed, and nothing new */
    velocity_line_may_move(line, now); /* a line that comes too late finds it latched */
    line->heard = true;
    line->counter = (uint8_t)value[0];
    line->vx = value[1], line->vy = value[2], line->vz = value[3], line->yaw_rate = value[4];
    line->valid = (uint32_t)value[5], line->power = value[6] == 1;
    line->outputs = (uint8_t)(count - 7);
    for (int i = 7; i < count; i++)
        line->output[i - 7] = (int16_t)value[i];
    line->came = now;
    line->good++;
    if (!value[1] && !value[2] && !value[3] && !value[4])
        line->latched = false;
    return true;
}

void velocity_line_begin(velocity_line *line)
{
    velocity_line blank = {0};
    *line = blank;
    line->latched = true;
}

bool velocity_line_byte(velocity_line *line, char byte, uint32_t now)
{
    uint32_t good = line->good;
    if (byte != '\n') {
        if (line->length < VELOCITY_LINE_LONGEST)
            line->text[line->length++] = byte;
        else
            line->too_long = true;
        return false;
    }
    if (line->too_long || !parse(line, now))
        line->bad++;
    line->length = 0, line->too_long = false;
    return line->good != good;
}

bool velocity_line_may_move(velocity_line *line, uint32_t now)
{
    /* The difference of two readings is right even where the clock has rolled over in between. */
    if (!line->heard || (uint32_t)(now - line->came) > line->valid)
        line->latched = true;
    return !line->latched && line->power;
}

static char *put(char *at, char mark, int32_t value)
{
    char digits[8];
    int count = 0;
    if (value > 999999)
        value = 999999;
    if (value < -999999)
        value = -999999;
    *at++ = ' ';
    if (mark)
        *at++ = mark, *at++ = ' ';
    if (value < 0)
        *at++ = '-', value = -value;
    do
        digits[count++] = (char)('0' + value % 10), value /= 10;
    while (value);
    while (count)
        *at++ = digits[--count];
    return at;
}

uint16_t velocity_line_answer(velocity_line *line, const velocity_line_report *report, uint32_t now, char *text)
{
    bool moves = velocity_line_may_move(line, now);
    int32_t link = moves ? 0 : !line->heard ? 1 : line->latched ? 2 : 3;
    char *at = text;
    *at++ = 'A';
    at = put(at, 0, line->counter);
    at = put(at, 0, (int32_t)(line->good & 0xFFFF));
    at = put(at, 0, report->why ? report->why : link);
    at = put(at, 0, report->millivolts);
    for (int i = 0; i < report->wheels && i < VELOCITY_LINE_NUMBERS; i++)
        at = put(at, i ? 0 : 'W', report->wheel[i]);
    for (int i = 0; i < report->distances && i < VELOCITY_LINE_NUMBERS; i++)
        at = put(at, i ? 0 : 'D', report->distance[i] < 0 ? 0 : report->distance[i]);
    if (report->made_from && at - text + 11 + 6 <= VELOCITY_LINE_LONGEST) {
        *at++ = ' ', *at++ = 'P', *at++ = ' ';
        for (int i = 0; i < 8; i++)
            *at++ = report->made_from[i];
    }
    uint16_t crc = checksum(text, (uint16_t)(at - text));
    *at++ = ' ';
    for (int shift = 12; shift >= 0; shift -= 4)
        *at++ = "0123456789ABCDEF"[crc >> shift & 15];
    *at++ = '\n';
    return (uint16_t)(at - text);
}
