#include "velocity_line.h"

/* One more byte of a CRC-16: polynomial 0x1021, initial value 0xFFFF, not reflected, no final XOR. */
static uint16_t with_byte(uint16_t crc, char byte)
{
    uint8_t bit;
    crc ^= (uint16_t)((uint16_t)(uint8_t)byte << 8);
    for (bit = 0; bit < 8; bit++)
        crc = (uint16_t)((crc & 0x8000) ? (crc << 1) ^ 0x1021 : crc << 1);
    return crc;
}

static void begin_word(velocity_line *line)
{
    line->minus = false;
    line->decimal = line->hexadecimal = true;
    line->letters = 0;
    line->hex = 0;
    line->number = 0;
}

static void begin_line(velocity_line *line)
{
    line->broken = line->returned = false;
    line->length = line->words = 0;
    line->crc = 0xFFFF;
    begin_word(line);
}

/* A character of a word. The first word is a V, the last one the checksum, and all others are numbers. */
static void take(velocity_line *line, char byte)
{
    bool digit = byte >= '0' && byte <= '9';
    if (!line->words && (byte != 'V' || line->letters))
        line->broken = true;
    if (digit && line->letters < 6 + line->minus)
        line->number = 10 * line->number + (byte - '0');
    else if (byte == '-' && !line->letters)
        line->minus = true;
    else
        line->decimal = false;
    if (digit || (byte >= 'A' && byte <= 'F'))
        line->hex = (uint16_t)(line->hex << 4 | (uint16_t)(digit ? byte - '0' : byte - 'A' + 10));
    else
        line->hexadecimal = false;
    line->letters++;
}

/* The end of a word that is not the last one. */
static void end_word(velocity_line *line)
{
    int32_t value = line->minus ? -line->number : line->number;
    if (line->letters == line->minus || (line->words && !line->decimal))
        line->broken = true;
    else if (line->words > 7 + VELOCITY_LINE_OUTPUTS || (line->words > 7 && (value < -1000 || value > 1000)))
        line->broken = true;
    else if (line->words > 7)
        line->level[line->words - 8] = (int16_t)value;
    else if (line->words)
        line->field[line->words - 1] = value;
    line->words++;
    line->crc_before = line->crc;
    begin_word(line);
}

/* The end of a line; returns whether it is well formed. */
static bool end_line(velocity_line *line, uint32_t now)
{
    uint8_t i;
    if (line->broken || line->words < 8 || line->letters != 4 || !line->hexadecimal || line->hex != line->crc_before)
        return false;
    if (line->field[0] < 0 || line->field[0] > 255 || line->field[5] < 0)
        return false;
    if (line->heard && (uint8_t)line->field[0] == line->counter)
        return true; /* a repetition: well formed, but not new */
    velocity_line_may_move(line, now); /* if this line comes too late, the stop is latched */
    line->heard = true;
    line->counter = (uint8_t)line->field[0];
    line->vx = line->field[1], line->vy = line->field[2], line->vz = line->field[3], line->yaw_rate = line->field[4];
    line->valid = (uint32_t)line->field[5], line->power = line->field[6] == 1;
    line->outputs = (uint8_t)(line->words - 8);
    for (i = 0; i < line->outputs; i++)
        line->output[i] = line->level[i];
    line->came = now;
    line->good++;
    if (!line->field[1] && !line->field[2] && !line->field[3] && !line->field[4])
        line->latched = false;
    return true;
}

void velocity_line_begin(velocity_line *line)
{
    line->vx = line->vy = line->vz = line->yaw_rate = 0;
    line->power = line->heard = false;
    line->latched = true;
    line->outputs = line->counter = 0;
    line->good = line->bad = line->came = line->valid = 0;
    line->crc_before = 0;
    begin_line(line);
}

bool velocity_line_byte(velocity_line *line, char byte, uint32_t now)
{
    uint32_t good = line->good;
    if (byte == '\n') {
        if (!end_line(line, now))
            line->bad++;
        begin_line(line);
        return line->good != good;
    }
    if (line->broken)
        return false; /* up to the end of the line */
    line->length++;
    if (line->returned || line->length > VELOCITY_LINE_LONGEST)
        line->broken = true;
    if (byte == '\r')
        line->returned = true;
    else if (byte == ' ')
        end_word(line);
    else
        take(line, byte);
    if (byte != '\r')
        line->crc = with_byte(line->crc, byte);
    return false;
}

bool velocity_line_may_move(velocity_line *line, uint32_t now)
{
    /* The difference of two readings is right even if the clock has wrapped in between. */
    if (!line->heard || (uint32_t)(now - line->came) > line->valid)
        line->latched = true;
    return !line->latched && line->power;
}

/* Write a space, the mark of a group if there is one, and a number; returns where the text goes on. */
static uint16_t put(char *text, uint16_t at, char mark, int32_t value)
{
    char digits[6];
    uint8_t count = 0;
    if (value > 999999)
        value = 999999;
    if (value < -999999)
        value = -999999;
    text[at++] = ' ';
    if (mark) {
        text[at++] = mark;
        text[at++] = ' ';
    }
    if (value < 0) {
        text[at++] = '-';
        value = -value;
    }
    do {
        digits[count++] = (char)('0' + value % 10);
        value /= 10;
    } while (value);
    while (count) {
        count--;
        text[at++] = digits[count];
    }
    return at;
}

uint16_t velocity_line_answer(velocity_line *line, const velocity_line_report *report, uint32_t now, char *text)
{
    bool moves = velocity_line_may_move(line, now);
    int32_t link = moves ? 0 : !line->heard ? 1 : line->latched ? 2 : 3;
    uint16_t at = 0, crc = 0xFFFF, one;
    uint8_t i, digit;
    text[at++] = 'A';
    at = put(text, at, 0, line->counter);
    at = put(text, at, 0, (int32_t)(line->good & 0xFFFF));
    at = put(text, at, 0, report->why ? report->why : link);
    at = put(text, at, 0, report->millivolts);
    for (i = 0; i < report->wheels && i < VELOCITY_LINE_NUMBERS; i++)
        at = put(text, at, i ? 0 : 'W', report->wheel[i]);
    for (i = 0; i < report->distances && i < VELOCITY_LINE_NUMBERS; i++)
        at = put(text, at, i ? 0 : 'D', report->distance[i] < 0 ? 0 : report->distance[i]);
    if (report->made_from && at + 11 + 6 <= VELOCITY_LINE_LONGEST) {
        text[at++] = ' ';
        text[at++] = 'P';
        text[at++] = ' ';
        for (i = 0; i < 8; i++)
            text[at++] = report->made_from[i];
    }
    for (one = 0; one < at; one++)
        crc = with_byte(crc, text[one]);
    text[at++] = ' ';
    for (i = 0; i < 4; i++) {
        digit = (uint8_t)(crc >> (12 - 4 * i) & 15);
        text[at++] = (char)(digit < 10 ? '0' + digit : 'A' - 10 + digit);
    }
    text[at++] = '\n';
    return at;
}
