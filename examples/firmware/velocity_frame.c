#include "velocity_frame.h"

#include <string.h>

enum { COMMAND = 0xA, ANSWER = 0xB, SIGNED_COMMAND = 0xC, SIGNED_ANSWER = 0xD };
enum { BODY = 10, SEAL = 16, COMMAND_MAC = 12, ANSWER_MAC = 8 };

static const uint16_t VALID[8] = {50, 100, 200, 300, 500, 1000, 2000, 5000}; /* ms */

/* CRC-16: polynomial 0x1021, initial value 0xFFFF, not reflected, no final XOR. */
static uint16_t checksum(const uint8_t *bytes, uint8_t length)
{
    uint16_t crc = 0xFFFF;
    for (uint8_t i = 0; i < length; i++) {
        crc ^= (uint16_t)((uint16_t)bytes[i] << 8);
        for (int bit = 0; bit < 8; bit++)
            crc = (uint16_t)((crc & 0x8000) ? (crc << 1) ^ 0x1021 : crc << 1);
    }
    return crc;
}

/* Keyed BLAKE2s (RFC 7693) of at most 64 bytes. */
static const uint32_t IV[8] = {0x6A09E667, 0xBB67AE85, 0x3C6EF372, 0xA54FF53A,
                               0x510E527F, 0x9B05688C, 0x1F83D9AB, 0x5BE0CD19};
static const uint8_t SIGMA[10][16] = {
    {0, 1, 2, 3, 4, 5, 6, 7, 8, 9, 10, 11, 12, 13, 14, 15}, {14, 10, 4, 8, 9, 15, 13, 6, 1, 12, 0, 2, 11, 7, 5, 3},
    {11, 8, 12, 0, 5, 2, 15, 13, 10, 14, 3, 6, 7, 1, 9, 4}, {7, 9, 3, 1, 13, 12, 11, 14, 2, 6, 5, 10, 4, 0, 15, 8},
    {9, 0, 5, 7, 2, 4, 10, 15, 14, 1, 11, 12, 6, 8, 3, 13}, {2, 12, 6, 10, 0, 11, 8, 3, 4, 13, 7, 5, 15, 14, 1, 9},
    {12, 5, 1, 15, 14, 13, 4, 10, 0, 7, 6, 3, 9, 2, 8, 11}, {13, 11, 7, 14, 12, 1, 3, 9, 5, 0, 15, 4, 8, 6, 2, 10},
    {6, 15, 14, 9, 11, 3, 0, 8, 12, 2, 13, 7, 1, 4, 10, 5}, {10, 2, 8, 4, 7, 6, 1, 5, 15, 11, 9, 14, 3, 12, 13, 0}};

static uint32_t turned(uint32_t word, int bits)
{
    return word >> bits | word << (32 - bits);
}

static void mix(uint32_t *v, int a, int b, int c, int d, uint32_t x, uint32_t y)
{
    v[a] += v[b] + x, v[d] = turned(v[d] ^ v[a], 16), v[c] += v[d], v[b] = turned(v[b] ^ v[c], 12);
    v[a] += v[b] + y, v[d] = turned(v[d] ^ v[a], 8), v[c] += v[d], v[b] = turned(v[b] ^ v[c], 7);
}

static void compress(uint32_t *h, const uint8_t *block, uint32_t so_far, bool last)
{
    uint32_t v[16], m[16];
    for (int i = 0; i < 16; i++)
        m[i] = (uint32_t)block[4 * i] | (uint32_t)block[4 * i + 1] << 8 | (uint32_t)block[4 * i + 2] << 16 |
               (uint32_t)block[4 * i + 3] << 24;
    for (int i = 0; i < 8; i++)
        v[i] = h[i], v[i + 8] = IV[i];
    v[12] ^= so_far;
    if (last)
        v[14] = ~v[14];
    for (int round = 0; round < 10; round++) {
        const uint8_t *s = SIGMA[round];
        for (int i = 0; i < 4; i++)
            mix(v, i, i + 4, i + 8, i + 12, m[s[2 * i]], m[s[2 * i + 1]]);
        for (int i = 0; i < 4; i++)
            mix(v, i, (i + 1) % 4 + 4, (i + 2) % 4 + 8, (i + 3) % 4 + 12, m[s[2 * i + 8]], m[s[2 * i + 9]]);
    }
    for (int i = 0; i < 8; i++)
        h[i] ^= v[i] ^ v[i + 8];
}

static void sign(const uint8_t *key, const uint8_t *data, uint8_t length, uint8_t *mac, uint8_t mac_length)
{
    uint8_t block[64] = {0};
    uint32_t h[8];
    memcpy(h, IV, sizeof h);
    h[0] ^= 0x01010000u | (uint32_t)VELOCITY_FRAME_KEY << 8 | mac_length;
    memcpy(block, key, VELOCITY_FRAME_KEY);
    compress(h, block, 64, false);
    memset(block, 0, sizeof block);
    memcpy(block, data, length);
    compress(h, block, 64u + length, true);
    for (uint8_t i = 0; i < mac_length; i++)
        mac[i] = (uint8_t)(h[i / 4] >> 8 * (i % 4));
}

static uint32_t word(const uint8_t *bytes)
{
    return (uint32_t)bytes[0] << 24 | (uint32_t)bytes[1] << 16 | (uint32_t)bytes[2] << 8 | bytes[3];
}

static void put_word(uint8_t *bytes, uint32_t value)
{
    for (int i = 0; i < 4; i++)
        bytes[i] = (uint8_t)(value >> (24 - 8 * i));
}

static int16_t axis(const uint8_t *bytes)
{
    uint16_t value = (uint16_t)(bytes[0] << 8 | bytes[1]);
    return (int16_t)(value < 0x8000 ? (int32_t)value : (int32_t)value - 0x10000);
}

static bool is_good(const velocity_frame *frame)
{
    const uint8_t *bytes = frame->bytes;
    if (frame->key == NULL)
        return bytes[0] >> 4 == COMMAND && (bytes[BODY] << 8 | bytes[BODY + 1]) == checksum(bytes, BODY);
    if (bytes[0] >> 4 != SIGNED_COMMAND)
        return false;
    uint8_t mac[COMMAND_MAC], wrong = 0;
    sign(frame->key, bytes, BODY + SEAL, mac, COMMAND_MAC);
    for (int i = 0; i < COMMAND_MAC; i++)
        wrong |= mac[i] ^ bytes[BODY + SEAL + i]; /* all of it, so that the time tells nothing */
    return wrong == 0;
}

/* Whether a signed command is for this session, new, and repeats what was said a moment ago. What the answers repeat is
 * the newest command that counted; only after a silence that of anybody, so that recordings disturb nobody who drives. */
static bool counts(velocity_frame *frame, uint32_t now)
{
    const uint8_t *seal = frame->bytes + BODY;
    uint32_t session = word(seal), run = word(seal + 4), number = word(seal + 8);
    if (frame->key == NULL)
        return true;
    bool free = !frame->heard || (uint32_t)(now - frame->came) >= VELOCITY_FRAME_LET_GO;
    bool in_turn = frame->heard && run == frame->run ? number > frame->number : free;
    bool good = session == frame->session && in_turn &&
                (uint32_t)(now - frame->began - word(seal + 12)) <= VELOCITY_FRAME_MOST_AGE;
    if (good)
        frame->run = run, frame->number = number;
    else if (session != 0)
        frame->refused++;
    if (good || free)
        frame->asked_run = run, frame->asked_number = number;
    return good;
}

static bool take(velocity_frame *frame, uint32_t now)
{
    const uint8_t *bytes = frame->bytes;
    if (!counts(frame, now) || (frame->key == NULL && frame->heard && bytes[1] == frame->counter))
        return false; /* a repetition is nothing new */
    velocity_frame_may_move(frame, now); /* a command that comes too late finds it latched */
    frame->heard = true, frame->counter = bytes[1];
    frame->valid = VALID[bytes[0] & 7], frame->power = (bytes[0] & 8) != 0;
    frame->vx = axis(bytes + 2), frame->vy = axis(bytes + 4);
    frame->vz = axis(bytes + 6), frame->yaw_rate = axis(bytes + 8);
    frame->came = now, frame->good++;
    if (!frame->vx && !frame->vy && !frame->vz && !frame->yaw_rate)
        frame->latched = false;
    return true;
}

void velocity_frame_begin(velocity_frame *frame, const uint8_t *key, uint32_t session, uint32_t now)
{
    memset(frame, 0, sizeof *frame);
    frame->key = key, frame->session = session, frame->began = now, frame->latched = true;
}

bool velocity_frame_byte(velocity_frame *frame, uint8_t byte, uint32_t now)
{
    uint8_t whole = frame->key == NULL ? BODY + 2 : BODY + SEAL + COMMAND_MAC;
    frame->bytes[frame->length++] = byte;
    if (frame->length < whole)
        return false;
    if (is_good(frame)) {
        frame->length = 0;
        return take(frame, now);
    }
    /* It begins one byte later, if at all. */
    memmove(frame->bytes, frame->bytes + 1, --frame->length);
    return false;
}

bool velocity_frame_may_move(velocity_frame *frame, uint32_t now)
{
    /* The difference of two readings is right even where the clock has rolled over in between. */
    if (!frame->heard || (uint32_t)(now - frame->came) > frame->valid)
        frame->latched = true;
    return !frame->latched && frame->power;
}

static uint16_t stepped(int32_t value, int32_t step)
{
    int32_t steps = (value + (value < 0 ? -step : step) / 2) / step;
    steps = steps > 32767 ? 32767 : steps < -32767 ? -32767 : steps;
    return (uint16_t)steps;
}

uint8_t velocity_frame_answer(velocity_frame *frame, const velocity_frame_report *report, uint32_t now, uint8_t *bytes)
{
    bool moves = velocity_frame_may_move(frame, now);
    uint8_t link = moves ? 0 : !frame->heard ? 1 : frame->latched ? 2 : 3;
    uint16_t volts = (uint16_t)((report->millivolts + 50u) / 100u), distance = (uint16_t)((report->distance + 10u) / 20u);
    uint16_t left = stepped(report->left, 10), right = stepped(report->right, 10);
    if (report->millivolts && !volts)
        volts = 1;
    bytes[0] = (uint8_t)((frame->key == NULL ? ANSWER : SIGNED_ANSWER) << 4 | report->has_wheels << 1 |
                         report->has_distance);
    bytes[1] = frame->counter, bytes[2] = (uint8_t)frame->good, bytes[3] = report->why ? report->why : link;
    bytes[4] = (uint8_t)(volts > 255 ? 255 : volts);
    bytes[5] = (uint8_t)(report->has_wheels ? left >> 8 : 0), bytes[6] = (uint8_t)(report->has_wheels ? left : 0);
    bytes[7] = (uint8_t)(report->has_wheels ? right >> 8 : 0), bytes[8] = (uint8_t)(report->has_wheels ? right : 0);
    bytes[9] = (uint8_t)(!report->has_distance ? 255 : distance > 254 ? 254 : distance);
    if (frame->key == NULL) {
        uint16_t crc = checksum(bytes, BODY);
        bytes[BODY] = (uint8_t)(crc >> 8), bytes[BODY + 1] = (uint8_t)crc;
        return BODY + 2;
    }
    put_word(bytes + BODY, frame->session), put_word(bytes + BODY + 4, now - frame->began);
    put_word(bytes + BODY + 8, frame->asked_run), put_word(bytes + BODY + 12, frame->asked_number);
    sign(frame->key, bytes, BODY + SEAL, bytes + BODY + SEAL, ANSWER_MAC);
    return BODY + SEAL + ANSWER_MAC;
}
