/* larktally.c: see larktally.h. */
#ifndef _POSIX_C_SOURCE
#define _POSIX_C_SOURCE 200809L
#endif
#include "larktally.h"

#include <arpa/inet.h>
#include <ctype.h>
#include <errno.h>
#include <fcntl.h>
#include <locale.h>
#include <math.h>
#include <netinet/in.h>
#include <netinet/tcp.h>
#include <signal.h>
#include <stdint.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/socket.h>
#include <unistd.h>

#define MOST_FRAMES 65536
#define DEEPEST 64

/* ---- Text that grows */

typedef struct {
    char *bytes;
    size_t size, room;
} Text;

static void *grown(void *memory, size_t size) {
    void *found = realloc(memory, size ? size : 1);
    if (!found) {
        fputs("larktally: no memory left\n", stderr);
        exit(70);
    }
    return found;
}

static void add_bytes(Text *text, const void *bytes, size_t size) {
    if (text->size + size + 1 > text->room) {
        text->room = 2 * (text->size + size + 1);
        text->bytes = grown(text->bytes, text->room);
    }
    if (size) memcpy(text->bytes + text->size, bytes, size);
    text->size += size;
    text->bytes[text->size] = 0;
}

static void add(Text *text, const char *more) { add_bytes(text, more, strlen(more)); }
static void add_whole(Text *text, long long value) {
    char told[32];
    snprintf(told, sizeof told, "%lld", value);
    add(text, told);
}
static void clear(Text *text) {
    text->size = 0;
    add(text, "");
}

static void add_quoted(Text *text, const char *value) {
    char escaped[8];
    add(text, "\"");
    for (; *value; value++) {
        unsigned char one = (unsigned char)*value;
        if (one == '"' || one == '\\') snprintf(escaped, sizeof escaped, "\\%c", one);
        else if (one < 0x20) snprintf(escaped, sizeof escaped, "\\u%04x", one);
        else snprintf(escaped, sizeof escaped, "%c", one);
        add(text, escaped);
    }
    add(text, "\"");
}

static char decimal_point(void) { return *localeconv()->decimal_point; }

/* The shortest text that reads back to the same bits, whatever the locale; JSON has no number for nan and inf. */
static void add_number(Text *text, double value) {
    char told[40];
    if (isnan(value) || isinf(value)) {
        add(text, isnan(value) ? "\"nan\"" : value < 0 ? "\"-inf\"" : "\"inf\"");
        return;
    }
    if (value == floor(value) && fabs(value) < 1e15 && !(value == 0 && signbit(value))) {
        add_whole(text, (long long)value);
        return;
    }
    for (int digits = 15; digits <= 17; digits++) {
        snprintf(told, sizeof told, "%.*g", digits, value);
        if (strtod(told, NULL) == value) break;
    }
    char *point = strchr(told, decimal_point());
    if (point) *point = '.';
    add(text, value == 0 ? "-0.0" : told);
}

static void add_little_endian(Text *text, uint64_t bits, int bytes) {
    char told[8];
    for (int n = 0; n < bytes; n++) told[n] = (char)(bits >> (8 * n));
    add_bytes(text, told, (size_t)bytes);
}

/* ---- Reading one line of JSON where it stands. Nothing is copied; what is broken is NULL. */

static const char *blank(const char *at) {
    while (*at == ' ' || *at == '\t' || *at == '\r' || *at == '\n') at++;
    return at;
}

static const char *past(const char *at, int depth) {
    at = blank(at);
    if (depth > DEEPEST) return NULL;
    if (*at == '"') {
        for (at++; *at && *at != '"'; at++)
            if (*at == '\\' && at[1]) at++;
        return *at ? at + 1 : NULL;
    }
    if (*at == '{' || *at == '[') {
        char close = *at == '{' ? '}' : ']';
        bool object = close == '}';
        at = blank(at + 1);
        if (*at == close) return at + 1;
        for (;;) {
            if (object && *at != '"') return NULL;
            if (!(at = past(at, depth + 1))) return NULL;
            at = blank(at);
            if (object) {
                if (*at != ':' || !(at = past(at + 1, depth + 1))) return NULL;
                at = blank(at);
            }
            if (*at == close) return at + 1;
            if (*at != ',') return NULL;
            at = blank(at + 1);
        }
    }
    const char *start = at;
    while (*at && !strchr(",]} \t\r\n:", *at)) at++;
    size_t length = (size_t)(at - start);
    if (!length) return NULL;
    bool word = (length == 4 && (!memcmp(start, "true", 4) || !memcmp(start, "null", 4))) || (length == 5 && !memcmp(start, "false", 5));
    return word || *start == '-' || isdigit((unsigned char)*start) ? at : NULL;
}

/* The first item of a list or the first key of an object, and the next after one. */
static const char *first_in(const char *whole) {
    const char *at = blank(whole + 1);
    return *at == ']' || *at == '}' ? NULL : at;
}
static const char *next_after(const char *item) {
    const char *at = blank(past(item, 0));
    return *at == ',' ? blank(at + 1) : NULL;
}
static const char *value_of(const char *key) { return blank(blank(past(key, 0)) + 1); }

static bool is_text(const char *value, const char *text) {
    size_t length = strlen(text);
    return value && *value == '"' && !strncmp(value + 1, text, length) && value[length + 1] == '"';
}

static const char *get(const char *object, const char *key) {
    if (!object || *(object = blank(object)) != '{') return NULL;
    for (const char *at = first_in(object); at; at = next_after(value_of(at)))
        if (is_text(at, key)) return value_of(at);
    return NULL;
}

static double number_at(const char *at, bool *reads) {
    char told[64];
    size_t length = 0;
    while (length < sizeof told - 1 && at[length] && !strchr(",]} \t\r\n:", at[length])) {
        told[length] = at[length] == '.' ? decimal_point() : at[length];
        length++;
    }
    told[length] = 0;
    char *end = told;
    double found = strtod(told, &end);
    *reads = length > 0 && !*end;
    return found;
}

/* ---- The subject */

typedef enum { NUMBER, NUMBER_FLOAT, COUNT, COUNT_LONG, FLAG, LABEL, GETTER } Way;

typedef struct {
    char *name;
    const char *kind;
    Way way;
    void *variable;
    double (*get)(void *own);
    char **labels;
    int label_count;
    double turn;
} Channel;

typedef struct {
    char *name;
    double *variable;
    double start, least, most;
} Param;

typedef struct {
    void *bytes;
    size_t size;
} Kept;

typedef struct {
    Text channels, inputs, events;
} Played;

typedef struct {
    char **items;
    size_t count;
} Names;

struct lt_subject {
    char *name, *version, *failed;
    Channel *channels;
    size_t channel_count;
    Kept *kept;
    size_t kept_count;
    Param *params;
    size_t param_count;
    Names actions, events, rates;
    bool *analog;
    void (*reset)(const lt_start *, void *);
    void *reset_own, *save_own;
    const void *(*save)(size_t *, void *);
    bool (*load)(const void *, size_t, void *);
    bool saves, running, ended, binary;
    int in, out, live;
    Text waiting, held, line, id, emitted, notes, answer;
    size_t looked;
    long long frame, asked, left;
    double *wanted, *now, *before;
    Text *columns;
    Played *ring;
    size_t ring_most, ring_count, ring_at;
    double ring_rate;
};

static char *copied(const char *text) {
    size_t size = strlen(text) + 1;
    return memcpy(grown(NULL, size), text, size);
}

static void add_name(Names *names, const char *name) {
    names->items = grown(names->items, (names->count + 1) * sizeof *names->items);
    names->items[names->count++] = copied(name);
}

static void free_names(Names *names) {
    for (size_t n = 0; n < names->count; n++) free(names->items[n]);
    free(names->items);
}

lt_subject *lt_new(const char *name, const char *version) {
    lt_subject *made = grown(NULL, sizeof *made);
    memset(made, 0, sizeof *made);
    made->name = copied(name);
    made->version = copied(version);
    made->in = made->out = made->live = -1;
    Text *texts[] = {&made->waiting, &made->held, &made->line, &made->id, &made->emitted, &made->notes, &made->answer};
    for (size_t n = 0; n < sizeof texts / sizeof *texts; n++) clear(texts[n]);
    return made;
}

static void free_played(Played *one) {
    free(one->channels.bytes);
    free(one->inputs.bytes);
    free(one->events.bytes);
}

void lt_free(lt_subject *s) {
    if (!s) return;
    for (size_t n = 0; n < s->channel_count; n++) {
        for (int k = 0; k < s->channels[n].label_count; k++) free(s->channels[n].labels[k]);
        free(s->channels[n].labels);
        free(s->channels[n].name);
        if (s->columns) free(s->columns[n].bytes);
    }
    for (size_t n = 0; n < s->param_count; n++) free(s->params[n].name);
    for (size_t n = 0; n < s->ring_count; n++) free_played(&s->ring[n]);
    free_names(&s->actions);
    free_names(&s->events);
    free_names(&s->rates);
    void *owned[] = {s->name, s->version, s->failed, s->channels, s->kept, s->params, s->analog, s->wanted, s->now, s->before,
                     s->columns, s->ring, s->held.bytes, s->line.bytes, s->id.bytes, s->emitted.bytes, s->notes.bytes, s->answer.bytes, s->waiting.bytes};
    for (size_t n = 0; n < sizeof owned / sizeof *owned; n++) free(owned[n]);
    free(s);
}

static Channel *add_channel(lt_subject *s, const char *name, const char *kind, Way way, void *variable, size_t size) {
    s->channels = grown(s->channels, (s->channel_count + 1) * sizeof *s->channels);
    s->columns = grown(s->columns, (s->channel_count + 1) * sizeof *s->columns);
    memset(&s->columns[s->channel_count], 0, sizeof *s->columns);
    Channel *made = &s->channels[s->channel_count++];
    *made = (Channel){.name = copied(name), .kind = kind, .way = way, .variable = variable};
    if (size) lt_keep(s, variable, size);
    return made;
}

void lt_number(lt_subject *s, const char *name, double *at) { add_channel(s, name, "number", NUMBER, at, sizeof *at); }
void lt_number_float(lt_subject *s, const char *name, float *at) { add_channel(s, name, "number", NUMBER_FLOAT, at, sizeof *at); }
void lt_count(lt_subject *s, const char *name, int *at) { add_channel(s, name, "count", COUNT, at, sizeof *at); }
void lt_count_long(lt_subject *s, const char *name, long long *at) { add_channel(s, name, "count", COUNT_LONG, at, sizeof *at); }
void lt_flag(lt_subject *s, const char *name, bool *at) { add_channel(s, name, "flag", FLAG, at, sizeof *at); }
void lt_angle(lt_subject *s, const char *name, double *at, double turn) {
    add_channel(s, name, "number", NUMBER, at, sizeof *at)->turn = turn;
}

void lt_label(lt_subject *s, const char *name, int *at, const char *const *labels) {
    Channel *made = add_channel(s, name, "label", LABEL, at, sizeof *at);
    for (; labels[made->label_count]; made->label_count++) {
        made->labels = grown(made->labels, ((size_t)made->label_count + 1) * sizeof *made->labels);
        made->labels[made->label_count] = copied(labels[made->label_count]);
    }
}

void lt_getter(lt_subject *s, const char *name, const char *kind, double (*getter)(void *own), void *own) {
    const char *known = !strcmp(kind, "flag") ? "flag" : !strcmp(kind, "count") ? "count" : "number";
    add_channel(s, name, known, GETTER, own, 0)->get = getter;
}

void lt_keep(lt_subject *s, void *bytes, size_t size) {
    s->kept = grown(s->kept, (s->kept_count + 1) * sizeof *s->kept);
    s->kept[s->kept_count++] = (Kept){bytes, size};
}

void lt_action(lt_subject *s, const char *name, bool analog) {
    add_name(&s->actions, name);
    size_t count = s->actions.count;
    s->analog = grown(s->analog, count * sizeof *s->analog);
    s->analog[count - 1] = analog;
    s->now = grown(s->now, count * sizeof *s->now);
    s->before = grown(s->before, count * sizeof *s->before);
    s->wanted = grown(s->wanted, count * MOST_FRAMES * sizeof *s->wanted);
    for (size_t n = 0; n < count; n++) s->now[n] = s->before[n] = 0;
}

void lt_event(lt_subject *s, const char *name) { add_name(&s->events, name); }
void lt_rate(lt_subject *s, const char *rate) { add_name(&s->rates, rate); }

void lt_param(lt_subject *s, const char *name, double *at, double least, double most) {
    s->params = grown(s->params, (s->param_count + 1) * sizeof *s->params);
    s->params[s->param_count++] = (Param){copied(name), at, *at, least, most};
}

void lt_on_reset(lt_subject *s, void (*reset)(const lt_start *, void *), void *own) {
    s->reset = reset;
    s->reset_own = own;
}
void lt_saved_as_bound(lt_subject *s) { s->saves = true; }
void lt_on_save(lt_subject *s, const void *(*save)(size_t *, void *), bool (*load)(const void *, size_t, void *), void *own) {
    s->saves = true;
    s->save = save;
    s->load = load;
    s->save_own = own;
}

/* ---- In a frame */

static size_t place_of(const Names *names, const char *name) {
    for (size_t n = 0; n < names->count; n++)
        if (!strcmp(names->items[n], name)) return n;
    return names->count;
}

static double held_by(const lt_subject *s, const char *action, const double *values) {
    size_t place = place_of(&s->actions, action);
    if (place == s->actions.count) {
        fprintf(stderr, "larktally: no action '%s' was announced\n", action);
        exit(70);
    }
    return values[place];
}

double lt_value(const lt_subject *s, const char *action) { return held_by(s, action, s->now); }
bool lt_held(const lt_subject *s, const char *action) { return fabs(lt_value(s, action)) >= 0.5; }
bool lt_pressed(const lt_subject *s, const char *action) { return lt_held(s, action) && fabs(held_by(s, action, s->before)) < 0.5; }
long long lt_frame(const lt_subject *s) { return s->frame; }

void lt_emit(lt_subject *s, const char *name, const char *source, const char *data) {
    /* Nobody asks for the events of a game that is only played. */
    if (s->out < 0 && !s->ring_most && s->live < 0) return;
    add(&s->emitted, s->emitted.size ? ",[" : "[");
    if (s->out >= 0) {
        add_whole(&s->emitted, s->frame);
        add(&s->emitted, ",");
    }
    add_quoted(&s->emitted, name);
    add(&s->emitted, ",");
    add_quoted(&s->emitted, source ? source : "");
    add(&s->emitted, ",");
    add(&s->emitted, data ? data : "{}");
    add(&s->emitted, "]");
}

void lt_note(lt_subject *s, const char *channel, const char *text) {
    if (s->out < 0) return;
    add(&s->notes, s->notes.size ? ",[" : "[");
    add_whole(&s->notes, s->frame);
    add(&s->notes, ",");
    add_quoted(&s->notes, channel);
    add(&s->notes, ",");
    add_quoted(&s->notes, text);
    add(&s->notes, "]");
}

void lt_fail(lt_subject *s, const char *message) {
    free(s->failed);
    s->failed = copied(message);
}

/* ---- Lines in, lines and bytes out */

static bool read_line(lt_subject *s) {
    for (;;) {
        char *end = memchr(s->held.bytes + s->looked, '\n', s->held.size - s->looked);
        if (end) {
            size_t length = (size_t)(end - s->held.bytes);
            clear(&s->line);
            add_bytes(&s->line, s->held.bytes, length);
            memmove(s->held.bytes, end + 1, s->held.size - length - 1);
            s->held.size -= length + 1;
            s->looked = 0;
            return true;
        }
        s->looked = s->held.size;
        char chunk[65536];
        ssize_t count = read(s->in, chunk, sizeof chunk);
        if (count < 0 && errno == EINTR) continue;
        if (count <= 0) return false;
        add_bytes(&s->held, chunk, (size_t)count);
    }
}

static void send_bytes(lt_subject *s, const Text *text) {
    for (size_t sent = 0; sent < text->size;) {
        ssize_t count = write(s->out, text->bytes + sent, text->size - sent);
        if (count < 0 && errno == EINTR) continue;
        if (count <= 0) {
            s->ended = true;
            return;
        }
        sent += (size_t)count;
    }
}

static void begin_answer(lt_subject *s) {
    clear(&s->answer);
    add(&s->answer, "{\"jsonrpc\":\"2.0\",\"id\":");
    add(&s->answer, s->id.size ? s->id.bytes : "null");
    add(&s->answer, ",\"result\":");
}
static void end_answer(lt_subject *s) {
    add(&s->answer, "}\n");
    send_bytes(s, &s->answer);
}

static void refuse(lt_subject *s, int code, const char *message, bool in_frame) {
    clear(&s->answer);
    add(&s->answer, "{\"jsonrpc\":\"2.0\",\"id\":");
    add(&s->answer, s->id.size ? s->id.bytes : "null");
    add(&s->answer, ",\"error\":{\"code\":");
    add_whole(&s->answer, code);
    add(&s->answer, ",\"message\":");
    add_quoted(&s->answer, message);
    if (in_frame) {
        add(&s->answer, ",\"data\":{\"frame\":");
        add_whole(&s->answer, s->frame);
        add(&s->answer, "}");
    }
    add(&s->answer, "}}\n");
    send_bytes(s, &s->answer);
}

/* A connection to a port of this machine, -1 where nothing listens there. */
static int connected_to(int port) {
    struct sockaddr_in address;
    memset(&address, 0, sizeof address);
    address.sin_family = AF_INET;
    address.sin_port = htons((uint16_t)port);
    address.sin_addr.s_addr = htonl(INADDR_LOOPBACK);
    int made = socket(AF_INET, SOCK_STREAM, 0), one = 1;
    signal(SIGPIPE, SIG_IGN);
    if (made >= 0 && connect(made, (struct sockaddr *)&address, sizeof address)) {
        close(made);
        return -1;
    }
    if (made >= 0) setsockopt(made, IPPROTO_TCP, TCP_NODELAY, &one, sizeof one);
    return made;
}

bool lt_connect(lt_subject *s) {
    const char *port = getenv("LARKTALLY_PORT");
    if (!port || !*port) return false;
    int made = connected_to(atoi(port));
    if (made < 0) {
        fprintf(stderr, "larktally: nothing listens on port %s of this machine\n", port);
        exit(70);
    }
    s->in = s->out = made;
    return true;
}

int lt_serve(lt_subject *s, void (*step)(void *own), void *own) {
    if (!lt_connect(s)) {
        signal(SIGPIPE, SIG_IGN);
        fflush(stdout);
        s->in = 0;
        s->out = dup(1);
        dup2(2, 1);
    }
    while (lt_tick(s)) step(own);
    return 0;
}

/* ---- Values of channels */

static double number_of(const Channel *one) {
    if (one->way == GETTER) return one->get(one->variable);
    if (one->way == NUMBER_FLOAT) return (double)*(float *)one->variable;
    return *(double *)one->variable;
}
static long long whole_of(const Channel *one) {
    if (one->way == GETTER) return (long long)one->get(one->variable);
    if (one->way == COUNT_LONG) return *(long long *)one->variable;
    return *(int *)one->variable;
}
static bool flag_of(const Channel *one) { return one->way == GETTER ? one->get(one->variable) != 0 : *(bool *)one->variable; }

/* The channel whose label is out of its list, or NULL. */
static const Channel *wrong_label(const lt_subject *s) {
    for (size_t n = 0; n < s->channel_count; n++) {
        const Channel *one = &s->channels[n];
        if (one->way == LABEL && (*(int *)one->variable < 0 || *(int *)one->variable >= one->label_count)) return one;
    }
    return NULL;
}

static void add_value(Text *text, const Channel *one, bool binary) {
    double number;
    uint64_t bits;
    if (one->way == LABEL) {
        int place = *(int *)one->variable;
        if (binary) add_little_endian(text, (uint64_t)place, 2);
        else add_quoted(text, one->labels[place]);
    } else if (*one->kind == 'f') {
        if (binary) add_bytes(text, flag_of(one) ? "\1" : "\0", 1);
        else add(text, flag_of(one) ? "true" : "false");
    } else if (*one->kind == 'c') {
        if (binary) add_little_endian(text, (uint64_t)whole_of(one), 8);
        else add_whole(text, whole_of(one));
    } else {
        number = number_of(one);
        memcpy(&bits, &number, sizeof bits);
        if (binary) add_little_endian(text, bits, 8);
        else add_number(text, number);
    }
}

static void add_row(Text *text, const lt_subject *s) {
    for (size_t n = 0; n < s->channel_count; n++) {
        if (n) add(text, ",");
        add_quoted(text, s->channels[n].name);
        add(text, ":");
        add_value(text, &s->channels[n], false);
    }
}

static void add_names(Text *text, const Names *names) {
    add(text, "[");
    for (size_t n = 0; n < names->count; n++) {
        if (n) add(text, ",");
        add_quoted(text, names->items[n]);
    }
    add(text, "]");
}

static void add_channels(Text *text, const lt_subject *s) {
    add(text, "[");
    for (size_t n = 0; n < s->channel_count; n++) {
        const Channel *one = &s->channels[n];
        add(text, n ? ",{\"name\":" : "{\"name\":");
        add_quoted(text, one->name);
        add(text, ",\"kind\":");
        add_quoted(text, one->kind);
        if (one->label_count) {
            add(text, ",\"labels\":");
            add_names(text, &(Names){one->labels, (size_t)one->label_count});
        }
        if (one->turn > 0) {
            add(text, ",\"wraps\":");
            add_number(text, one->turn);
        }
        add(text, "}");
    }
    add(text, "]");
}

/* ---- Methods. Each returns NULL, or why it refuses, with the code in *code. */

/* What it says of itself, but for the end of the object. */
static void add_about(Text *told, const lt_subject *s) {
    add(told, "{\"protocol\":1,\"name\":");
    add_quoted(told, s->name);
    add(told, ",\"version\":");
    add_quoted(told, s->version);
    add(told, ",\"channels\":");
    add_channels(told, s);
    add(told, ",\"actions\":[");
    for (size_t n = 0; n < s->actions.count; n++) {
        add(told, n ? ",{\"name\":" : "{\"name\":");
        add_quoted(told, s->actions.items[n]);
        add(told, s->analog[n] ? ",\"analog\":true}" : "}");
    }
    add(told, "],\"events\":");
    add_names(told, &s->events);
    add(told, ",\"rates\":");
    add_names(told, &s->rates);
    add(told, ",\"params\":[");
    for (size_t n = 0; n < s->param_count; n++) {
        add(told, n ? ",{\"name\":" : "{\"name\":");
        add_quoted(told, s->params[n].name);
        add(told, ",\"default\":");
        add_number(told, s->params[n].start);
        if (!isnan(s->params[n].least)) {
            add(told, ",\"least\":");
            add_number(told, s->params[n].least);
        }
        if (!isnan(s->params[n].most)) {
            add(told, ",\"most\":");
            add_number(told, s->params[n].most);
        }
        add(told, "}");
    }
    add(told, s->saves ? "],\"saves\":true" : "],\"saves\":false");
}

static const char *answer_hello(lt_subject *s, const char *params) {
    const char *ways = get(params, "columns");
    s->binary = false;
    if (ways && *ways == '[')
        for (const char *at = first_in(ways); at; at = next_after(at)) s->binary = s->binary || is_text(at, "binary");
    begin_answer(s);
    Text *told = &s->answer;
    add_about(told, s);
    if (s->binary) add(told, ",\"columns\":\"binary\"");
    const char *token = getenv("LARKTALLY_TOKEN");
    add(told, ",\"token\":");
    add_quoted(told, token ? token : "");
    add(told, "}");
    end_answer(s);
    return NULL;
}

static void set_params(lt_subject *s, const char *given) {
    bool reads;
    for (size_t n = 0; n < s->param_count; n++) {
        const char *value = get(given, s->params[n].name);
        *s->params[n].variable = value ? number_at(value, &reads) : s->params[n].start;
    }
}

static void add_happened(lt_subject *s) {
    add(&s->answer, "\"events\":[");
    add_bytes(&s->answer, s->emitted.bytes, s->emitted.size);
    add(&s->answer, "]");
    if (s->notes.size) {
        add(&s->answer, ",\"notes\":[");
        add_bytes(&s->answer, s->notes.bytes, s->notes.size);
        add(&s->answer, "]");
    }
    clear(&s->emitted);
    clear(&s->notes);
}

static const char *begin_run(lt_subject *s, const char *params, int *code) {
    const char *rate = get(params, "rate"), *seed = get(params, "seed");
    char exact[64] = "60";
    bool reads = true;
    if (rate && *rate == '"') {
        size_t length = strcspn(rate + 1, "\"");
        snprintf(exact, sizeof exact, "%.*s", (int)length, rate + 1);
    }
    char *slash = strchr(exact, '/');
    double under = slash ? atof(slash + 1) : 1, over = atof(exact);
    *code = -32602;
    if (!(over > 0 && under > 0)) return "reset takes a rate";
    lt_start start = {over / under, exact, seed ? (long long)number_at(seed, &reads) : 0};
    s->frame = 0;
    s->running = true;
    free(s->failed);
    s->failed = NULL;
    clear(&s->emitted);
    clear(&s->notes);
    for (size_t n = 0; n < s->actions.count; n++) s->now[n] = s->before[n] = 0;
    set_params(s, get(params, "params"));
    if (s->reset) s->reset(&start, s->reset_own);
    set_params(s, get(params, "params"));
    *code = -32000;
    if (wrong_label(s)) return "a label is out of its list";
    begin_answer(s);
    add(&s->answer, "{\"row\":{");
    add_row(&s->answer, s);
    add(&s->answer, "},");
    add_happened(s);
    add(&s->answer, "}");
    end_answer(s);
    return NULL;
}

static void answer_step(lt_subject *s) {
    /* What failed is answered already. */
    if (s->asked < 0) return;
    size_t bytes = 0;
    begin_answer(s);
    add(&s->answer, "{");
    add_happened(s);
    add(&s->answer, s->binary ? ",\"bytes\":" : ",\"columns\":{");
    for (size_t n = 0; n < s->channel_count; n++) {
        bytes += s->columns[n].size;
        if (s->binary) continue;
        if (n) add(&s->answer, ",");
        add_quoted(&s->answer, s->channels[n].name);
        add(&s->answer, ":[");
        add_bytes(&s->answer, s->columns[n].bytes, s->columns[n].size);
        add(&s->answer, "]");
    }
    if (s->binary) add_whole(&s->answer, (long long)bytes);
    add(&s->answer, s->binary ? "}}\n" : "}}}\n");
    for (size_t n = 0; s->binary && n < s->channel_count; n++) add_bytes(&s->answer, s->columns[n].bytes, s->columns[n].size);
    send_bytes(s, &s->answer);
}

static const char *begin_step(lt_subject *s, const char *params, int *code) {
    const char *wanted = get(params, "frames"), *inputs = get(params, "inputs");
    bool reads = false;
    double frames = wanted ? number_at(wanted, &reads) : -1;
    *code = -32600;
    if (!s->running) return "reset comes before step";
    *code = -32602;
    if (!reads || frames != floor(frames) || frames < 0 || frames > MOST_FRAMES) return "frames is a whole number from 0 to 65536";
    if (!inputs || *inputs != '{') return "inputs is an object of lists";
    for (size_t n = 0; n < s->actions.count; n++) memset(&s->wanted[n * MOST_FRAMES], 0, (size_t)frames * sizeof *s->wanted);
    for (const char *key = first_in(inputs); key; key = next_after(value_of(key))) {
        size_t place = 0, count = 0;
        const char *values = value_of(key);
        while (place < s->actions.count && !is_text(key, s->actions.items[place])) place++;
        if (place == s->actions.count) return "inputs holds an action that this game does not take";
        if (*values != '[') return "an input is a list";
        /* The line was read as a whole before: its ends need no looking for. */
        for (const char *at = first_in(values); at; at = next_after(at)) {
            if (count >= (size_t)frames) return "an input has a value for each frame";
            s->wanted[place * MOST_FRAMES + count++] = number_at(at, &reads);
        }
        if (count != (size_t)frames) return "an input has a value for each frame";
    }
    s->asked = s->left = (long long)frames;
    for (size_t n = 0; n < s->channel_count; n++) clear(&s->columns[n]);
    if (s->left == 0) answer_step(s);
    return NULL;
}

static void take_row(lt_subject *s) {
    const Channel *wrong = wrong_label(s);
    if (s->failed || wrong) {
        char message[256];
        if (wrong) snprintf(message, sizeof message, "channel %s is at label %d of %d", wrong->name, *(int *)wrong->variable, wrong->label_count);
        refuse(s, -32000, s->failed ? s->failed : message, true);
        s->left = 1;
        s->asked = -1;
        s->running = false;
        return;
    }
    for (size_t n = 0; n < s->channel_count; n++) {
        if (!s->binary && s->columns[n].size) add(&s->columns[n], ",");
        add_value(&s->columns[n], &s->channels[n], s->binary);
    }
}

static void add_hex(Text *text, const void *bytes, size_t size) {
    static const char digits[] = "0123456789abcdef";
    for (size_t n = 0; n < size; n++) {
        unsigned char one = ((const unsigned char *)bytes)[n];
        add_bytes(text, &digits[one >> 4], 1);
        add_bytes(text, &digits[one & 15], 1);
    }
}

static bool hex_into(const char *hex, void *bytes, size_t size) {
    for (size_t n = 0; n < size; n++) {
        if (!isxdigit((unsigned char)hex[2 * n]) || !isxdigit((unsigned char)hex[2 * n + 1])) return false;
        char pair[3] = {hex[2 * n], hex[2 * n + 1], 0};
        ((unsigned char *)bytes)[n] = (unsigned char)strtoul(pair, NULL, 16);
    }
    return true;
}

/* A state is bytes as hex: the frame, what was held, and either all that was bound or what the game itself says. It is put back by
   the build that saved it. */
static const char *answer_save(lt_subject *s, int *code) {
    *code = -32600;
    if (!s->saves) return "this game does not save";
    begin_answer(s);
    add(&s->answer, "{\"state\":\"");
    add_hex(&s->answer, &s->frame, sizeof s->frame);
    add_hex(&s->answer, s->now, s->actions.count * sizeof *s->now);
    if (s->save) {
        size_t size = 0;
        const void *own = s->save(&size, s->save_own);
        add_hex(&s->answer, own, size);
    } else {
        for (size_t n = 0; n < s->kept_count; n++) add_hex(&s->answer, s->kept[n].bytes, s->kept[n].size);
    }
    add(&s->answer, "\"}");
    end_answer(s);
    return NULL;
}

static const char *answer_load(lt_subject *s, const char *params, int *code) {
    static const char *unknown = "load takes a state that save gave";
    const char *state = get(params, "state");
    *code = -32602;
    if (!s->saves || !state || *state != '"') return unknown;
    size_t length = strcspn(++state, "\"") / 2, inputs = s->actions.count * sizeof *s->now, size = sizeof s->frame + inputs;
    size_t bound = 0;
    for (size_t n = 0; n < s->kept_count; n++) bound += s->kept[n].size;
    if (length < size || (!s->load && length != size + bound)) return unknown;
    unsigned char *bytes = grown(NULL, length);
    bool fits = hex_into(state, bytes, length);
    if (fits && s->load) {
        fits = s->load(bytes + size, length - size, s->save_own);
    } else if (fits) {
        size_t at = size;
        for (size_t n = 0; n < s->kept_count; at += s->kept[n++].size) memcpy(s->kept[n].bytes, bytes + at, s->kept[n].size);
    }
    if (fits) {
        memcpy(&s->frame, bytes, sizeof s->frame);
        if (inputs) memcpy(s->now, bytes + sizeof s->frame, inputs);
    }
    free(bytes);
    if (!fits || wrong_label(s)) return unknown;
    s->running = true;
    free(s->failed);
    s->failed = NULL;
    begin_answer(s);
    add(&s->answer, "{\"frame\":");
    add_whole(&s->answer, s->frame);
    add(&s->answer, ",\"row\":{");
    add_row(&s->answer, s);
    add(&s->answer, "}}");
    end_answer(s);
    return NULL;
}

static const char *answer_end(lt_subject *s) {
    begin_answer(s);
    add(&s->answer, "{}");
    end_answer(s);
    s->ended = true;
    return NULL;
}

static void take_line(lt_subject *s) {
    const char *line = s->line.bytes, *end = past(line, 0);
    clear(&s->id);
    if (!end || *blank(end)) {
        refuse(s, -32700, "not JSON", false);
        return;
    }
    const char *id = get(line, "id"), *method = get(line, "method"), *params = get(line, "params"), *refused;
    if (id && (*id == '"' || *id == '-' || isdigit((unsigned char)*id))) add_bytes(&s->id, id, (size_t)(past(id, 0) - id));
    int code = -32601;
    if (!method || *method != '"') code = -32600, refused = "no method";
    else if (is_text(method, "hello")) refused = answer_hello(s, params);
    else if (is_text(method, "reset")) refused = begin_run(s, params, &code);
    else if (is_text(method, "step")) refused = begin_step(s, params, &code);
    else if (is_text(method, "save")) refused = answer_save(s, &code);
    else if (is_text(method, "load")) refused = answer_load(s, params, &code);
    else if (is_text(method, "end")) refused = answer_end(s);
    else refused = "no such method";
    if (refused) refuse(s, code, refused, false);
}

bool lt_tick(lt_subject *s) {
    if (s->left > 0) {
        take_row(s);
        if (--s->left == 0) answer_step(s);
    }
    while (s->left == 0) {
        if (s->ended || !read_line(s)) return false;
        take_line(s);
    }
    size_t k = (size_t)(s->asked - s->left);
    for (size_t n = 0; n < s->actions.count; n++) {
        s->before[n] = s->now[n];
        s->now[n] = s->wanted[n * MOST_FRAMES + k];
    }
    s->frame++;
    return true;
}

/* ---- The last seconds of a game that is played */

void lt_keep_last(lt_subject *s, double seconds, double rate) {
    s->ring_most = (size_t)ceil(seconds * rate) + 1;
    s->ring_rate = rate;
    s->ring = grown(s->ring, s->ring_most * sizeof *s->ring);
    memset(s->ring, 0, s->ring_most * sizeof *s->ring);
}

/* What the other side does not take yet waits; one that takes nothing for long is let go of. */
static void flush_live(lt_subject *s) {
    ssize_t count = write(s->live, s->waiting.bytes, s->waiting.size);
    if (count > 0) {
        memmove(s->waiting.bytes, s->waiting.bytes + count, s->waiting.size - (size_t)count);
        s->waiting.size -= (size_t)count;
    }
    bool gone = count < 0 && errno != EAGAIN && errno != EWOULDBLOCK && errno != EINTR;
    if (!gone && s->waiting.size < ((size_t)16 << 20)) return;
    close(s->live);
    s->live = -1;
    clear(&s->waiting);
}

bool lt_show_to(lt_subject *s, int port, double rate) {
    s->live = connected_to(port);
    if (s->live < 0) return false;
    fcntl(s->live, F_SETFL, O_NONBLOCK);
    clear(&s->waiting);
    add(&s->waiting, "{\"jsonrpc\":\"2.0\",\"method\":\"live\",\"params\":");
    add_about(&s->waiting, s);
    add(&s->waiting, ",\"rate\":\"");
    add_number(&s->waiting, rate);
    add(&s->waiting, "\"}}\n");
    flush_live(s);
    return s->live >= 0;
}

static void say_played(lt_subject *s, const Played *row) {
    add(&s->waiting, "{\"jsonrpc\":\"2.0\",\"method\":\"row\",\"params\":{\"row\":{");
    add_bytes(&s->waiting, row->channels.bytes, row->channels.size);
    add(&s->waiting, "},\"inputs\":{");
    add_bytes(&s->waiting, row->inputs.bytes, row->inputs.size);
    add(&s->waiting, "},\"events\":[");
    add_bytes(&s->waiting, row->events.bytes, row->events.size);
    add(&s->waiting, "]}}\n");
    flush_live(s);
}

void lt_played(lt_subject *s, const double *inputs) {
    if ((!s->ring_most && s->live < 0) || wrong_label(s)) return;
    /* Without a ring one row is all that is kept. */
    if (!s->ring_most) lt_keep_last(s, 0, 60);
    Played *row = &s->ring[s->ring_at];
    s->ring_at = (s->ring_at + 1) % s->ring_most;
    if (s->ring_count < s->ring_most) s->ring_count++;
    clear(&row->channels);
    clear(&row->inputs);
    clear(&row->events);
    add_row(&row->channels, s);
    for (size_t n = 0; n < s->actions.count; n++) {
        if (n) add(&row->inputs, ",");
        add_quoted(&row->inputs, s->actions.items[n]);
        add(&row->inputs, ":");
        add_number(&row->inputs, inputs[n]);
    }
    add_bytes(&row->events, s->emitted.bytes, s->emitted.size);
    clear(&s->emitted);
    s->frame++;
    if (s->live >= 0) say_played(s, row);
}

bool lt_report(const lt_subject *s, const char *path) {
    FILE *out = fopen(path, "wb");
    if (!out) return false;
    Text told = {0}, about = {0};
    add(&told, "{\"larktally\":1,\"rate\":\"");
    add_number(&told, s->ring_rate);
    add(&told, "\",\"subject\":");
    add(&about, s->name);
    add(&about, ", the frames before ");
    add_whole(&about, s->frame);
    add_quoted(&told, about.bytes);
    add(&told, ",\"channels\":");
    add_channels(&told, s);
    add(&told, ",\"inputs\":");
    add_names(&told, &s->actions);
    add(&told, ",\"actions\":");
    add_names(&told, &s->actions);
    add(&told, ",\"events\":");
    add_names(&told, &s->events);
    add(&told, "}\n");
    fwrite(told.bytes, 1, told.size, out);
    size_t first = s->ring_count < s->ring_most ? 0 : s->ring_at;
    for (size_t k = 0; k < s->ring_count; k++) {
        const Played *row = &s->ring[(first + k) % s->ring_most];
        fprintf(out, "{\"frame\":%zu,\"set\":{%s}", k, row->channels.bytes);
        /* No step made row 0, so that it has no inputs. */
        if (k) fprintf(out, ",\"input\":{%s}", row->inputs.bytes);
        fprintf(out, ",\"events\":[%s]}\n", row->events.bytes);
    }
    fprintf(out, "{\"rows\":%zu}\n", s->ring_count);
    free(told.bytes);
    free(about.bytes);
    return fclose(out) == 0;
}
