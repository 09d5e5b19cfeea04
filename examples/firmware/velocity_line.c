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
    }
    line->words++;
    line->crc_before = line->crc;
    begin_word(line);
}

/* The end of a line; returns whether it is well formed. */
static bool end_line(velocity_line *line, uint32_t now)
{
    const int32_t *field = line->field;
    uint8_t i;
    if (line->broken || line->words < 8 || line->letters != 4 || !line->hexadecimal || line->hex != line->crc_before)
        return false;
    if (field[0] < 0 || field[0] > 255 || field[5] < 0)
        return false;
    if (line->heard && (uint8_t)field[0] == line->counter)
        return true; /* a repetition: well formed, but not new */
    velocity_line_may_move(line, now); /* if this line comes too late, the stop is latched */
    line->heard = true;
    line->counter = (uint8_t)field[0];
    line->vx = field[1], line->vy = field[2], line->vz = field[3], line->yaw_rate = field[4];
    line->valid = (uint32_t)field[5], line->power = field[6] == 1;
    line->outputs = (uint8_t)(line->words - 8);
    for (i = 0; i < line->outputs; i++)
        line->output[i] = (int16_t)field[7 + i];
    line->came = now;
    line->good++;
    if (!(line->vx | line->vy | line->vz | line->yaw_rate))
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

bool velocity_line_may_move(velocity_line *line, uint32_t now)
{
    /* The difference of two readings is right even if the clock has wrapped in between. */
    if (!line->heard || (uint32_t)(now - line->came) > line->valid)
        line->latched = true;
    return !line->latched && line->power;
}

/* Write a space and a number; returns where the text goes on. */
static uint8_t put(char *text, uint8_t at, int32_t value)
{
    char digits[6];
    uint8_t count = 0;
    uint32_t size = value < 0 ? 0 - (uint32_t)value : (uint32_t)value;
    text[at++] = ' ';
    if (value < 0)
        text[at++] = '-';
    if (size > 999999)
        size = 999999;
    do {
        digits[count++] = (char)('0' + size % 10);
        size /= 10;
    } while (size);
    while (count) {
        count--;
        text[at++] = digits[count];
    }
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
    at = put(text, at, (int32_t)(line->good & 0xFFFF));
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
        at = put(text, i ? at : mark(text, at, 'W'), report->wheel[i]);
    for (i = 0; i < report->distances && i < VELOCITY_LINE_NUMBERS; i++)
        at = put(text, i ? at : mark(text, at, 'D'), report->distance[i] < 0 ? 0 : report->distance[i]);
    return velocity_line_answer_end(text, at, report->made_from);
}
