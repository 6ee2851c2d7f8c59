/* larktally.h, larktally.c: make a game in C99 a subject that larktally records, replays and judges. Two files, no dependencies,
   POSIX; under the licence of Lark Tally. How it is used: docs/programs.md, and game.c beside these files. */
#ifndef LARKTALLY_H
#define LARKTALLY_H

#include <stdbool.h>
#include <stddef.h>

#ifdef __cplusplus
extern "C" {
#endif

typedef struct lt_subject lt_subject;

/* What a run is made from: frames per second, as a number and as the exact fraction, and the seed of its random numbers. */
typedef struct {
    double rate;
    const char *exact_rate;
    long long seed;
} lt_start;

/* A game as a subject; let go of with lt_free. Names are copied; variables are read where they stand, and have to stay there. */
lt_subject *lt_new(const char *name, const char *version);
void lt_free(lt_subject *subject);

/* A channel that is a variable. A label is the place of one of its labels, which end with NULL. */
void lt_number(lt_subject *subject, const char *name, double *variable);
void lt_number_float(lt_subject *subject, const char *name, float *variable);
void lt_count(lt_subject *subject, const char *name, int *variable);
void lt_count_long(lt_subject *subject, const char *name, long long *variable);
void lt_flag(lt_subject *subject, const char *name, bool *variable);
void lt_label(lt_subject *subject, const char *name, int *variable, const char *const *labels);
/* A number that is an angle: what a whole turn is. */
void lt_angle(lt_subject *subject, const char *name, double *variable, double turn);
/* A channel that is what a function returns: of kind "number", "count" or "flag". */
void lt_getter(lt_subject *subject, const char *name, const char *kind, double (*get)(void *own), void *own);
/* State that is no channel, for lt_saved_as_bound: so many bytes, which hold no pointers. */
void lt_keep(lt_subject *subject, void *bytes, size_t size);

void lt_action(lt_subject *subject, const char *name, bool analog);
void lt_event(lt_subject *subject, const char *name);
/* A rate that it accepts, as text: "60", "60000/1001". Where none is said, any. */
void lt_rate(lt_subject *subject, const char *rate);
/* A variable that a run may set, from `least` to `most` (NAN for no bound); its default is what stands there now. It is set before
   and after a reset, so that it lasts. */
void lt_param(lt_subject *subject, const char *name, double *variable, double least, double most);

/* Back to the beginning, whatever was before. */
void lt_on_reset(lt_subject *subject, void (*reset)(const lt_start *start, void *own), void *own);
/* What was bound and kept is all of the state: it is saved and put back. */
void lt_saved_as_bound(lt_subject *subject);
/* The game's own functions save its state and put it back: `save` returns bytes that last until the next call, and how many. */
void lt_on_save(lt_subject *subject, const void *(*save)(size_t *size, void *own), bool (*load)(const void *bytes, size_t size, void *own),
                void *own);

/* In a frame: by how much an action is held, whether it is, and whether it is since this frame. */
double lt_value(const lt_subject *subject, const char *action);
bool lt_held(const lt_subject *subject, const char *action);
bool lt_pressed(const lt_subject *subject, const char *action);
long long lt_frame(const lt_subject *subject);
/* Something happened; `data` is a JSON object, such as "{\"speed\":360}", or NULL. */
void lt_emit(lt_subject *subject, const char *name, const char *source, const char *data);
/* Why a channel is what it is in this frame; it stands under a claim that is broken there. */
void lt_note(lt_subject *subject, const char *channel, const char *text);
/* What went wrong in this frame; the run ends with it. */
void lt_fail(lt_subject *subject, const char *message);

/* Speaks over standard input and output, or over the port in LARKTALLY_PORT, and calls `step` for each frame, until it is asked to
   end. What the game prints meanwhile goes to standard error. Returns what main returns. */
int lt_serve(lt_subject *subject, void (*step)(void *own), void *own);
/* Connects to the port in LARKTALLY_PORT; false where there is none, and the game is played as always. */
bool lt_connect(lt_subject *subject);
/* One call a tick, before the game's own step: it takes the row that the tick before left, and waits until a frame is wanted. False
   when the run is over. */
bool lt_tick(lt_subject *subject);

/* Keeps the last seconds of a game that is played, for reports: lt_played once in each tick, after the step, with what each action
   is at, in the order in which they were announced; lt_report when a tester asks for it writes a trace, JSON Lines. */
void lt_keep_last(lt_subject *subject, double seconds, double rate);
void lt_played(lt_subject *subject, const double *inputs);
bool lt_report(const lt_subject *subject, const char *path);
/* Shows the game that is played to `larktally watch --listen PORT`, with each lt_played; false where nothing listens. The game never
   waits for it. */
bool lt_show_to(lt_subject *subject, int port, double rate);

#ifdef __cplusplus
}
#endif

#endif
