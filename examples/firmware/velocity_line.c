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
    line->broken = line->returned = line->moves = false;
    line->length = line->words = 0;
    line->crc = 0xFFFF;
    begin_word(line);
}

/* A character of a word. The first word is a V, the last one the checksum, and all others are numbers. */
static void take(velocity_line *line, char byte)
{
    uint8_t digit = (uint8_t)(byte - '0');
    if (!line->words && (byte != 'V' || line->letters))
        line->broken = true;
    if (digit < 10 && line->letters < 6 + line->minus)
        line->number = 10 * line->number + digit;
    else if (byte == '-' && !line->letters)
        line->minus = true;
    else
        line->decimal = false;
    if (byte >= 'A' && byte <= 'F')
        digit = (uint8_t)(byte - 'A' + 10);
    if (digit > 15 || (digit > 9 && byte < 'A'))
        line->hexadecimal = false;
    line->hex = (uint16_t)(line->hex << 4 | digit);
    line->letters++;
}

/* The end of a word that is not the last one. */
static void end_word(velocity_line *line)
{
    uint8_t words = line->words;
    int32_t value = line->minus ? -line->number : line->number;
    if (line->letters == line->minus || words > 7 + VELOCITY_LINE_OUTPUTS)
        line->broken = true;
    else if (words) {
        if (!line->decimal || (words > 7 && line->number > 1000))
            line->broken = true;
        line->field[words - 1] = value;
        if (line->number && words > 1 && words < 6)
            line->moves = true;
    }
    line->words++;
    line->crc_before = line->crc;
    begin_word(line);
}

enum { BAD, REPEATED, NEW };

/* The end of a line; returns what it is. */
static uint8_t end_line(velocity_line *line, uint32_t now)
{
    const int32_t *field = line->field;
    if (line->broken || line->words < 8 || line->letters != 4 || !line->hexadecimal || line->hex != line->crc_before)
        return BAD;
    if (field[0] < 0 || field[0] > 255 || field[5] < 0)
        return BAD;
    if (line->heard && (uint8_t)field[0] == line->counter)
        return REPEATED;
    velocity_line_may_move(line, now); /* if this line comes too late, the stop is latched */
    line->heard = true;
    line->counter = (uint8_t)field[0];
    line->valid = (uint32_t)field[5], line->power = field[6] == 1;
    line->outputs = (uint8_t)(line->words - 8);
    line->came = now;
    line->good++;
    if (!line->moves)
        line->latched = false;
    return NEW;
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
    uint8_t i;
    if (!velocity_line_numbers(line, byte, now))
        return false;
    line->vx = line->field[1], line->vy = line->field[2], line->vz = line->field[3], line->yaw_rate = line->field[4];
    for (i = 0; i < line->outputs; i++)
        line->output[i] = (int16_t)line->field[7 + i];
    return true;
}

bool velocity_line_numbers(velocity_line *line, char byte, uint32_t now)
{
    if (byte == '\n') {
        uint8_t kind = end_line(line, now);
        if (kind == BAD)
            line->bad++;
        begin_line(line);
        return kind == NEW;
    }
    if (line->broken)
        return false; /* up to the end of the line */
    line->length++;
    if (line->returned || line->length > VELOCITY_LINE_LONGEST)
        line->broken = true;
    if (byte == '\r') {
        line->returned = true;
        return false;
    }
    if (byte == ' ')
        end_word(line);
    else
        take(line, byte);
    line->crc = with_byte(line->crc, byte);
    return false;
}

bool velocity_line_expired(const velocity_line *line, uint32_t now)
{
    /* The difference of two readings is right even if the clock has wrapped in between. */
    return !line->heard || (uint32_t)(now - line->came) > line->valid;
}

bool velocity_line_may_move(velocity_line *line, uint32_t now)
{
    if (velocity_line_expired(line, now))
        line->latched = true;
    return !line->latched && line->power;
}

/* Write a space and a number; returns where the text goes on. */
static uint8_t put(char *text, uint8_t at, uint16_t value)
{
    char digits[5];
    uint8_t count = 0;
    text[at++] = ' ';
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

/* The same for a number that may be negative, or larger. */
static uint8_t put_wide(char *text, uint8_t at, int32_t value)
{
    uint32_t size = value < 0 ? 0 - (uint32_t)value : (uint32_t)value;
    uint32_t unit = 100000;
    text[at++] = ' ';
    if (value < 0)
        text[at++] = '-';
    if (size > 999999)
        size = 999999;
    while (unit > size && unit > 1)
        unit /= 10;
    for (; unit; unit /= 10)
        text[at++] = (char)('0' + size / unit % 10);
    return at;
}

/* Write a space and the mark of a group. */
static uint8_t mark(char *text, uint8_t at, char letter)
{
    text[at++] = ' ';
    text[at++] = letter;
    return at;
}

uint8_t velocity_line_answer_begin(velocity_line *line, uint8_t why, uint16_t millivolts, uint32_t now, char *text)
{
    bool moves = velocity_line_may_move(line, now);
    uint8_t link = moves ? 0 : !line->heard ? 1 : line->latched ? 2 : 3, at = 1;
    text[0] = 'A';
    at = put(text, at, line->counter);
    at = put(text, at, (uint16_t)(line->good & 0xFFFF));
    at = put(text, at, why ? why : link);
    return put(text, at, millivolts);
}

uint8_t velocity_line_answer_end(char *text, uint8_t at, const char *made_from)
{
    uint16_t crc = 0xFFFF;
    uint8_t i, digit;
    if (made_from && at + 11 + 6 <= VELOCITY_LINE_LONGEST) {
        at = mark(text, at, 'P');
        text[at++] = ' ';
        for (i = 0; i < 8; i++)
            text[at++] = made_from[i];
    }
    for (i = 0; i < at; i++)
        crc = with_byte(crc, text[i]);
    text[at++] = ' ';
    for (i = 0; i < 4; i++) {
        digit = (uint8_t)(crc >> 12);
        text[at++] = (char)(digit < 10 ? '0' + digit : 'A' - 10 + digit);
        crc = (uint16_t)(crc << 4);
    }
    text[at++] = '\n';
    return at;
}

uint16_t velocity_line_answer(velocity_line *line, const velocity_line_report *report, uint32_t now, char *text)
{
    uint8_t i, at = velocity_line_answer_begin(line, report->why, report->millivolts, now, text);
    for (i = 0; i < report->wheels && i < VELOCITY_LINE_NUMBERS; i++)
        at = put_wide(text, i ? at : mark(text, at, 'W'), report->wheel[i]);
    for (i = 0; i < report->distances && i < VELOCITY_LINE_NUMBERS; i++)
        at = put_wide(text, i ? at : mark(text, at, 'D'), report->distance[i] < 0 ? 0 : report->distance[i]);
    return velocity_line_answer_end(text, at, report->made_from);
}
