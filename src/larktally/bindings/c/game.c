/* Lantern: Wick on a quay, as a small game in C. The game knows nothing of larktally; main binds it. */
#include <stdio.h>

#include "larktally.h"

enum { STANDING, AIRBORNE };

typedef struct {
    double x, y, vx, vy;
    bool grounded;
    int gait, oil, rest;
} Wick;

static const Wick BEGINNING = {.x = 24, .y = 16, .grounded = true, .gait = STANDING, .oil = 7};
static Wick wick;
static double speed = 120, rate = 60;
static lt_subject *subject;

static void reset(const lt_start *start, void *own) {
    (void)own;
    wick = BEGINNING;
    rate = start->rate;
}

/* One frame: the timer, then the rules, then motion (semi-implicit Euler). */
static void step(void *own) {
    char data[64];
    (void)own;
    if (wick.rest > 0) wick.rest -= 1;
    if (wick.gait == AIRBORNE && wick.grounded) {
        wick.gait = STANDING;
    } else if (wick.gait == STANDING && lt_pressed(subject, "hop")) {
        wick.vy = 360;
        wick.gait = AIRBORNE;
        wick.grounded = false;
        lt_emit(subject, "hop", "wick", "{\"speed\":360}");
    }
    if (lt_pressed(subject, "spark") && wick.rest == 0 && wick.oil > 0) {
        wick.oil -= 1;
        wick.rest = 12;
        snprintf(data, sizeof data, "{\"left\":%d}", wick.oil);
        lt_emit(subject, "spark", "can", data);
        lt_note(subject, "can.oil", "a spark was thrown");
    }
    wick.vx = speed * lt_value(subject, "walk");
    wick.vy -= 900 / rate;
    wick.x += wick.vx / rate;
    wick.y += wick.vy / rate;
    if (wick.y <= 16) {
        if (!wick.grounded) lt_emit(subject, "landed", "wick", NULL);
        wick.y = 16;
        wick.vy = 0;
        wick.grounded = true;
    }
}

static double is_empty(void *own) {
    (void)own;
    return wick.oil == 0;
}

int main(void) {
    static const char *const gaits[] = {"standing", "airborne", NULL};
    wick = BEGINNING;
    subject = lt_new("lantern", "1.0");
    lt_number(subject, "wick.x", &wick.x);
    lt_number(subject, "wick.y", &wick.y);
    lt_number(subject, "wick.vx", &wick.vx);
    lt_number(subject, "wick.vy", &wick.vy);
    lt_flag(subject, "wick.grounded", &wick.grounded);
    lt_label(subject, "wick.gait", &wick.gait, gaits);
    lt_count(subject, "can.oil", &wick.oil);
    lt_count(subject, "can.rest", &wick.rest);
    lt_getter(subject, "can.empty", "flag", is_empty, NULL);
    lt_action(subject, "walk", true);
    lt_action(subject, "hop", false);
    lt_action(subject, "spark", false);
    lt_event(subject, "hop");
    lt_event(subject, "landed");
    lt_event(subject, "spark");
    lt_param(subject, "speed", &speed, 10, 400);
    lt_on_reset(subject, reset, NULL);
    lt_saved_as_bound(subject);

    /* A host that owns its loop asks once a tick; where there is no port to connect to, lt_serve owns the loop. */
    int status = 0;
    if (lt_connect(subject)) {
        while (lt_tick(subject)) step(NULL);
    } else {
        status = lt_serve(subject, step, NULL);
    }
    lt_free(subject);
    return status;
}
