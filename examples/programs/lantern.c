/* Lantern: Wick on a quay as a small game in C. It speaks the protocol of docs/programs.md over its standard input and
   output: one JSON-RPC 2.0 message a line. With --faulty a hop is allowed in the air. */
#include <stdio.h>

#include "line_json.h"

#define MOST_FRAMES 65536
#define QUAY 16.0

enum { LEFT, RIGHT, HOP, BURST, ACTIONS };
static const char *ACTION[ACTIONS] = {"left", "right", "hop", "burst"};

typedef struct {
    double x, y, vx, vy;
    int grounded, facing, burst_left, age, airborne, hop_held, burst_held;
} Game;

static Game game;
static int faulty, running, frame;
static double rate = 60;
static Game rows[MOST_FRAMES];
static char said[1 << 20];
static size_t said_length;

static void say(const char *name, const char *source) {
    said_length += (size_t)snprintf(said + said_length, sizeof said - said_length, "%s[%d,\"%s\",\"%s\"]",
                                    said_length ? "," : "", frame, name, source);
}

static void reset(void) {
    game = (Game){.x = 24, .y = QUAY, .grounded = 1, .facing = 1};
    frame = 0;
    running = 1;
}

/* One frame, in one stated order: timers, then rules, then motion (semi-implicit Euler). */
static void step(const double *input) {
    int hop = input[HOP] >= 0.5 && !game.hop_held, burst = input[BURST] >= 0.5 && !game.burst_held;
    game.hop_held = input[HOP] >= 0.5;
    game.burst_held = input[BURST] >= 0.5;
    if (game.burst_left) game.burst_left--;
    game.age++;
    if (hop && (!game.airborne || faulty)) {
        game.vy = 360;
        game.airborne = 1;
        game.grounded = 0;
        game.age = 0;
        say("hop", "wick");
    } else if (game.airborne && game.grounded) {
        game.airborne = 0;
        game.age = 0;
    }
    double way = input[RIGHT] - input[LEFT];
    if (way) game.facing = way > 0 ? 1 : -1;
    if (burst && !game.burst_left) {
        game.burst_left = 48;
        say("used", "wick.burst");
    }
    game.vx = game.burst_left > 38 ? 320.0 * game.facing : 120 * way;
    game.vy -= 900 / rate;
    game.x += game.vx / rate;
    game.y += game.vy / rate;
    int was = game.grounded;
    game.grounded = 0;
    if (game.y <= QUAY) {
        game.y = QUAY;
        game.vy = 0;
        game.grounded = 1;
    }
    if (game.grounded && !was) say("landed", "wick");
}

static void print_column(const char *name, int count, int last, int kind) {
    printf("\"%s\":[", name);
    for (int k = 0; k < count; k++) {
        const Game *g = &rows[k];
        if (k) putchar(',');
        switch (kind) {
            case 0: printf("%.17g", g->x); break;
            case 1: printf("%.17g", g->y); break;
            case 2: printf("%.17g", g->vx); break;
            case 3: printf("%.17g", g->vy); break;
            case 4: fputs(g->grounded ? "true" : "false", stdout); break;
            case 5: printf("%d", g->facing); break;
            case 6: printf("%d", g->burst_left); break;
            case 7: fputs(g->airborne ? "\"airborne\"" : "\"standing\"", stdout); break;
            default: printf("%d", g->age);
        }
    }
    fputs(last ? "]" : "],", stdout);
}

static const char *CHANNEL[] = {"wick.x",      "wick.y",          "wick.vx",   "wick.vy",      "wick.grounded",
                                "wick.facing", "wick.burst.left", "wick.gait", "wick.gait.age"};

static void print_columns(int count) {
    for (int c = 0; c < 9; c++) print_column(CHANNEL[c], count, c == 8, c);
}

/* The same for one row, as an object of single values. */
static void print_row(void) {
    printf("{\"wick.x\":%.17g,\"wick.y\":%.17g,\"wick.vx\":%.17g,\"wick.vy\":%.17g,\"wick.grounded\":%s,\"wick.facing\":%d,"
           "\"wick.burst.left\":%d,\"wick.gait\":\"%s\",\"wick.gait.age\":%d}",
           game.x, game.y, game.vx, game.vy, game.grounded ? "true" : "false", game.facing, game.burst_left,
           game.airborne ? "airborne" : "standing", game.age);
}

static void begin_answer(const char *id) {
    const char *end = id ? json_past(id) : NULL;
    printf("{\"jsonrpc\":\"2.0\",\"id\":%.*s,", id && end ? (int)(end - id) : 4, id && end ? id : "null");
}

static void refuse(const char *id, int code, const char *message) {
    begin_answer(id);
    printf("\"error\":{\"code\":%d,\"message\":\"%s\"}}\n", code, message);
}

static void answer_hello(const char *id) {
    begin_answer(id);
    fputs("\"result\":{\"protocol\":1,\"name\":\"lantern\",\"version\":\"1.0\",\"channels\":["
          "{\"name\":\"wick.x\",\"kind\":\"number\"},{\"name\":\"wick.y\",\"kind\":\"number\"},"
          "{\"name\":\"wick.vx\",\"kind\":\"number\"},{\"name\":\"wick.vy\",\"kind\":\"number\"},"
          "{\"name\":\"wick.grounded\",\"kind\":\"flag\"},{\"name\":\"wick.facing\",\"kind\":\"count\"},"
          "{\"name\":\"wick.burst.left\",\"kind\":\"count\"},"
          "{\"name\":\"wick.gait\",\"kind\":\"label\",\"labels\":[\"standing\",\"airborne\"]},"
          "{\"name\":\"wick.gait.age\",\"kind\":\"count\"}],"
          "\"actions\":[\"left\",\"right\",\"hop\",\"burst\"],\"events\":[\"hop\",\"landed\",\"used\"],"
          "\"rates\":[30,60,120],\"saves\":true}}\n",
          stdout);
}

static void answer_step(const char *id, const char *params) {
    static double input[ACTIONS][MOST_FRAMES];
    const char *wanted = json_get(params, "frames"), *inputs = json_get(params, "inputs");
    int count = wanted ? atoi(wanted) : -1, known = 0;
    if (!running) return (void)refuse(id, -32600, "reset comes before step");
    if (count < 0 || count > MOST_FRAMES || !inputs) return (void)refuse(id, -32602, "step takes frames and inputs");
    memset(input, 0, sizeof input);
    for (int a = 0; a < ACTIONS; a++) {
        const char *values = json_get(inputs, ACTION[a]);
        int k = 0;
        if (!values) continue;
        known++;
        for (const char *at = json_next(values, 1); at && k < count; at = json_next(at, 0)) input[a][k++] = atof(at);
        if (k != count) return (void)refuse(id, -32602, "an input has a value for each frame");
    }
    if (known != json_keys(inputs)) return (void)refuse(id, -32602, "inputs holds an action that this game does not take");
    said_length = 0;
    for (int k = 0; k < count; k++) {
        double now[ACTIONS];
        for (int a = 0; a < ACTIONS; a++) now[a] = input[a][k];
        frame++;
        step(now);
        rows[k] = game;
    }
    begin_answer(id);
    fputs("\"result\":{\"columns\":{", stdout);
    print_columns(count);
    printf("},\"events\":[%.*s]}}\n", (int)said_length, said);
}

/* A state is all numbers of the game, in hexadecimal floats, so that it comes back bit for bit. */
static void answer_save(const char *id) {
    begin_answer(id);
    printf("\"result\":{\"state\":\"%a %a %a %a %d %d %d %d %d %d %d %d\"}}\n", game.x, game.y, game.vx, game.vy, game.grounded,
           game.facing, game.burst_left, game.age, game.airborne, game.hop_held, game.burst_held, frame);
}

static void answer_load(const char *id, const char *params) {
    const char *state = json_get(params, "state");
    Game g = {0};
    int at = 0;
    if (!state || sscanf(state, "\"%la %la %la %la %d %d %d %d %d %d %d %d", &g.x, &g.y, &g.vx, &g.vy, &g.grounded, &g.facing,
                         &g.burst_left, &g.age, &g.airborne, &g.hop_held, &g.burst_held, &at) != 12)
        return (void)refuse(id, -32602, "load takes a state that save gave");
    game = g;
    frame = at;
    running = 1;
    begin_answer(id);
    printf("\"result\":{\"frame\":%d,\"row\":", frame);
    print_row();
    fputs("}}\n", stdout);
}

static int answer(const char *line) {
    const char *id = json_get(line, "id"), *method = json_get(line, "method"), *params = json_get(line, "params");
    if (!json_whole(line)) {
        refuse(NULL, -32700, "not JSON");
    } else if (!method) {
        refuse(id, -32600, "no method");
    } else if (json_is(method, "hello")) {
        answer_hello(id);
    } else if (json_is(method, "reset")) {
        const char *wanted = json_get(params, "rate");
        if (wanted) rate = atof(wanted + 1);
        reset();
        begin_answer(id);
        fputs("\"result\":{\"row\":", stdout);
        print_row();
        fputs(",\"events\":[]}}\n", stdout);
    } else if (json_is(method, "step")) {
        answer_step(id, params);
    } else if (json_is(method, "save")) {
        answer_save(id);
    } else if (json_is(method, "load")) {
        answer_load(id, params);
    } else if (json_is(method, "end")) {
        begin_answer(id);
        fputs("\"result\":{}}\n", stdout);
        return 0;
    } else {
        refuse(id, -32601, "no such method");
    }
    return 1;
}

int main(int count, char **words) {
    static char line[1 << 23];
    faulty = count > 1 && !strcmp(words[1], "--faulty");
    fprintf(stderr, "lantern 1.0%s\n", faulty ? ", with its fault" : "");
    while (fgets(line, sizeof line, stdin)) {
        int goes_on = answer(line);
        fflush(stdout);
        if (!goes_on) return 0;
    }
    return 0;
}
