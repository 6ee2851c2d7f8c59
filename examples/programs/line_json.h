/* Reading one line of JSON where it stands: enough for messages whose keys are known. Nothing is copied. */
#ifndef LINE_JSON_H
#define LINE_JSON_H

#include <stdlib.h>
#include <string.h>

/* Past blanks. */
static const char *json_blank(const char *at) {
    while (*at == ' ' || *at == '\t' || *at == '\r' || *at == '\n') at++;
    return at;
}

/* Past one whole value; NULL where it is broken. */
static const char *json_past(const char *at) {
    at = json_blank(at);
    if (*at == '"') {
        for (at++; *at && *at != '"'; at++)
            if (*at == '\\' && at[1]) at++;
        return *at ? at + 1 : NULL;
    }
    if (*at == '{' || *at == '[') {
        char close = *at == '{' ? '}' : ']';
        at = json_blank(at + 1);
        while (*at && *at != close) {
            if (!(at = json_past(at))) return NULL;
            at = json_blank(at);
            if (*at == ',' || *at == ':') at = json_blank(at + 1);
            else if (*at != close) return NULL;
        }
        return *at ? at + 1 : NULL;
    }
    const char *start = at;
    while (*at && !strchr(",]} \t\r\n:", *at)) at++;
    return at > start ? at : NULL;
}

/* The value of a key of an object, or NULL. */
static const char *json_get(const char *object, const char *key) {
    if (!object || *(object = json_blank(object)) != '{') return NULL;
    const char *at = json_blank(object + 1);
    size_t length = strlen(key);
    while (*at == '"') {
        const char *name = at + 1, *end = json_past(at);
        if (!end || *(at = json_blank(end)) != ':') return NULL;
        at = json_blank(at + 1);
        if ((size_t)(end - 1 - name) == length && !strncmp(name, key, length)) return at;
        if (!(at = json_past(at))) return NULL;
        at = json_blank(at);
        if (*at == ',') at = json_blank(at + 1);
    }
    return NULL;
}

/* The next item of an array: give the array first, then what was returned; NULL after the last. */
static const char *json_next(const char *array_or_item, int first) {
    const char *at = json_blank(array_or_item);
    if (first) return *at == '[' && *(at = json_blank(at + 1)) != ']' ? at : NULL;
    if (!(at = json_past(at))) return NULL;
    at = json_blank(at);
    return *at == ',' ? json_blank(at + 1) : NULL;
}

/* How many keys an object has. */
static int json_keys(const char *object) {
    int count = 0;
    const char *at = json_blank(object);
    if (*at != '{') return -1;
    at = json_blank(at + 1);
    while (*at == '"') {
        if (!(at = json_past(at)) || *(at = json_blank(at)) != ':') return -1;
        if (!(at = json_past(at + 1))) return -1;
        count++;
        at = json_blank(at);
        if (*at == ',') at = json_blank(at + 1);
    }
    return count;
}

/* Whether a value is this string. */
static int json_is(const char *value, const char *text) {
    size_t length = strlen(text);
    return value && *value == '"' && !strncmp(value + 1, text, length) && value[length + 1] == '"';
}

/* Whether the line is one whole value and nothing else. */
static int json_whole(const char *line) {
    const char *end = json_past(line);
    return end && !*json_blank(end);
}

#endif
