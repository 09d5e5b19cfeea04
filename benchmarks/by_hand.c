/* Medlar by hand, for the comparison in firmware.py: what a careful builder would write for this one robot. */
#include <math.h>
#include <stdint.h>
#include <stdio.h>
#include <stdlib.h>
#include <time.h>

#ifdef GENERATED
#include "robot_board.h"
#else

static float vx, yaw, left_wheel, right_wheel;
static int driving, enabled, released;
static uint32_t heard, before;

static float travel(float raw, float low, float centre, float high) {
    float p = (raw - centre) / (raw >= centre ? high - centre : centre - low);
    return -(p < -1.0f ? -1.0f : p > 1.0f ? 1.0f : p);
}

static float shaped(float p, float zone, float expo) {
    float size = fabsf(p) - zone;
    if (size <= 0.0f) return 0.0f;
    size = size / (1.0f - zone);
    if (size > 1.0f) size = 1.0f;
    if (p < 0.0f) size = -size;
    return size * (1.0f + expo * (size * size - 1.0f));
}

static float approach(float from, float to, float most) {
    return to > from + most ? from + most : to < from - most ? from - most : to;
}

static void step(float drive_raw, float steer_raw, float hold_raw, uint32_t now) {
    float dt = (float)(now - before) / 1000.0f, drive, steer, want_x, want_yaw, rim, left, share;
    int good = drive_raw >= -32768.0f && drive_raw <= 32767.0f && steer_raw >= -32768.0f && steer_raw <= 32767.0f && hold_raw >= 0.0f && hold_raw <= 1.0f;
    before = now;
    if (good) heard = now;
    drive = travel(drive_raw, -30454.0f, 983.0f, 30454.0f);
    steer = travel(steer_raw, -30454.0f, 983.0f, 30454.0f);
    if (now - heard > 300 || dt > 0.25f || !good) driving = 0, enabled = 0, released = 0;
    if (hold_raw < 0.5f) driving = 0, enabled = 0, released = 1;
    if (hold_raw >= 0.5f && released && !driving) enabled = 1;
    if (enabled && fabsf(drive) < 0.08f && fabsf(steer) < 0.08f) driving = 1;
    if (driving) {
        drive = shaped(drive, 0.08f, 0.35f);
        steer = shaped(steer, 0.08f, 0.35f);
        want_x = drive * (drive >= 0.0f ? 1.2f : 0.5f);
        want_yaw = steer * 1.5708f;
        rim = fabsf(want_x) + fabsf(want_yaw) * 0.31f;
        if (rim > 1.382f) want_x *= 1.382f / rim, want_yaw *= 1.382f / rim;
        vx = approach(vx, want_x, 0.8f * dt);
        yaw = approach(yaw, want_yaw, 3.14f * dt);
    } else if (vx != 0.0f || yaw != 0.0f) {
        left = fmaxf(fabsf(vx) / 1.5f, fabsf(yaw) / 3.14f);
        share = left <= dt ? 0.0f : 1.0f - dt / left;
        vx *= share, yaw *= share;
    }
    left_wheel = (vx - yaw * 0.31f) / 0.11f;
    right_wheel = (vx + yaw * 0.31f) / 0.11f;
}
#endif

int main(int count, char **arguments) {
    long steps = count > 1 ? atol(arguments[1]) : 1000000;
    float sum = 0.0f;
    clock_t since;
    long number;
#ifdef GENERATED
    robot_begin(0);
#endif
    since = clock();
    for (number = 1; number <= steps; number++) {
        uint32_t now = (uint32_t)(20 * number);
        float forward = 983.0f - 200.0f * (float)(number % 150), left = 983.0f + 100.0f * (float)(number % 90), held = number % 1000 > 50;
        if (number % 1000 < 100) forward = left = 983.0f;
#ifdef GENERATED
        robot_put(ROBOT_IN_LEFT_Y, forward);
        robot_put(ROBOT_IN_RIGHT_X, left);
        robot_put(ROBOT_IN_LEFT_SHOULDER, held);
        robot_frame(now, true);
        robot_step(now);
        sum += robot_get(ROBOT_OUT_LEFT_WHEEL) + robot_get(ROBOT_OUT_RIGHT_WHEEL);
#else
        step(forward, left, held, now);
        sum += left_wheel + right_wheel;
#endif
    }
    printf("%.12f %.6g\n", (double)(clock() - since) / CLOCKS_PER_SEC / (double)steps, (double)sum);
    return 0;
}
