import { useEffect, useState } from 'preact/hooks';
import { bindingsOf, Held, keyWord, Pace, padBindingsOf, pushedOn } from './playing.js';

const WINDOW = 240;
const SPEEDS = [
  [1, 'real time'],
  [0.5, 'half'],
  [0.25, 'a quarter'],
  [0, 'frame by frame'],
];
export const MARK_KEY = 'F8';

/** A run while it is played: its rows so far, what is held, and the frames that are asked for. */
export class Playing {
  constructor(run, send) {
    this.run = run;
    this.send = send;
    this.held = new Held(bindingsOf(run.actions), run.actions, padBindingsOf(run.actions));
    // The action whose key is being chosen.
    this.binding = null;
    this.pace = new Pace(run.rate ?? 60);
    this.waiting = false;
    this.writing = false;
    this.over = '';
    this.version = 0;
    this.shownHeld = {};
    this.changed = () => {};
  }

  /** The rows that are drawn: the last few seconds. */
  range() {
    const rows = Math.max(this.run.rows, 1);
    return [Math.max(0, rows - WINDOW), Math.max(rows, WINDOW)];
  }

  /** Asks for the frames that are due; one request at a time, so that a slow subject slows the game and queues nothing. */
  tick(time) {
    if (this.writing || this.over) {
      this.pace.rest();
      return;
    }
    if (this.pace.speed === 0) return;
    if (this.waiting) return;
    this.ask(this.pace.due(time));
  }

  ask(frames) {
    if (frames < 1 || this.over) return;
    const pads = padsNow();
    const asked = Array.from({ length: frames }, () => this.held.next(pads));
    this.shownHeld = asked.at(-1);
    this.waiting = true;
    this.send({ do: 'step', frames: asked });
  }

  rows({ first, rows, held, events, over }) {
    this.waiting = false;
    this.over = over ?? '';
    if (rows.length) this.run.append(first, rows, held, events);
    this.version += 1;
    this.changed();
  }

  leave() {
    this.send({ do: 'leave' });
  }
}

const padsNow = () => (navigator.getGamepads ? [...navigator.getGamepads()] : []);

/** The keys of an action; what it has of a pad too, while there is one. */
function keysOf(playing, name) {
  const onPad = padsNow().some(Boolean) ? (playing.held.onPad[name] ?? []) : [];
  return [...(playing.held.bindings[name] ?? []), ...onPad].map(keyWord).join(', ') || 'none';
}

/** What stands in place of the transport while a run is played. */
export function PlayBar({ playing }) {
  const [, redraw] = useState(0);
  const [note, setNote] = useState(null);
  const bind = (code) => {
    if (code !== 'Escape') playing.held.bindings[playing.binding] = [code];
    playing.binding = null;
    redraw((n) => n + 1);
  };
  useEffect(() => {
    let frame = 0;
    const step = (time) => {
      const pushed = playing.binding && pushedOn(padsNow());
      if (pushed) bind(pushed);
      playing.tick(time);
      frame = requestAnimationFrame(step);
    };
    frame = requestAnimationFrame(step);
    return () => cancelAnimationFrame(frame);
  }, [playing]);
  useEffect(() => {
    const key = (event) => {
      if (event.target.matches?.('input')) return;
      if (playing.binding && event.type === 'keydown') bind(event.code);
      else if (event.code === 'Escape') {
        if (event.type === 'keydown') playing.leave();
      }
      else if (playing.held.press(event.code, event.type === 'keydown')) {
        if (event.type === 'keydown' && !event.repeat && playing.pace.speed === 0) playing.ask(1);
      } else if (event.code === MARK_KEY && event.type === 'keydown') open();
      else return;
      event.preventDefault();
    };
    const gone = () => playing.held.letGo();
    window.addEventListener('keydown', key);
    window.addEventListener('keyup', key);
    window.addEventListener('blur', gone);
    return () => {
      window.removeEventListener('keydown', key);
      window.removeEventListener('keyup', key);
      window.removeEventListener('blur', gone);
    };
  }, [playing]);
  const open = () => {
    playing.writing = true;
    playing.held.letGo();
    setNote('');
  };
  const mark = (event) => {
    event.preventDefault();
    playing.send({ do: 'mark', note });
    playing.writing = false;
    setNote(null);
  };
  const paced = (speed) => {
    playing.pace.speed = speed;
    playing.pace.rest();
    redraw((n) => n + 1);
  };
  return (
    <div class="transport playing" data-playing>
      <span class="mode">{playing.over ? `over: ${playing.over}` : 'you play'}</span>
      <span data-row={playing.run.rows - 1}>
        row {playing.run.rows - 1}
        {playing.pace.behind && <em class="behind"> slower than real time: the subject cannot keep the pace</em>}
      </span>
      {SPEEDS.map(([speed, word]) => (
        <button key={word} aria-pressed={playing.pace.speed === speed} onClick={() => paced(speed)}>
          {word}
        </button>
      ))}
      {playing.pace.speed === 0 && <button onClick={() => playing.ask(1)}>one frame</button>}
      {playing.run.actions.map(({ name }) => (
        <button
          key={name}
          class={`action ${playing.shownHeld[name] ? 'held' : ''}`}
          title={`choose another key for ${name}`}
          onClick={(event) => {
            // The space bar is to be the game's, and not this button's.
            event.currentTarget.blur();
            playing.binding = name;
            redraw((n) => n + 1);
          }}
        >
          {name} <kbd>{playing.binding === name ? 'press a key' : keysOf(playing, name)}</kbd>
        </button>
      ))}
      {note === null ? (
        <button onClick={open}>
          mark <kbd>{MARK_KEY}</kbd>
        </button>
      ) : (
        <form onSubmit={mark}>
          <input aria-label="note" autofocus value={note} placeholder="what was odd here?" onInput={(event) => setNote(event.target.value)} />
          <button>mark it</button>
        </form>
      )}
      <button class="strong" onClick={() => playing.send({ do: 'judge' })}>
        judge it
      </button>
      <button onClick={() => playing.leave()}>
        leave <kbd>Esc</kbd>
      </button>
    </div>
  );
}
