// Playing: what is held on the keyboard and on a pad, and how many frames are due.

const SPARE = ['Space', 'KeyX', 'KeyC', 'KeyV', 'KeyA', 'KeyS', 'KeyD', 'KeyF', 'KeyQ', 'KeyW', 'KeyE', 'KeyR'];
const ARROWS = { left: 'ArrowLeft', right: 'ArrowRight', up: 'ArrowUp', down: 'ArrowDown' };

/** Keys for each action: its own, or, for one that has none, an arrow by its name or the next key that is free. */
export function bindingsOf(actions) {
  const taken = new Set(actions.flatMap((action) => action.keys));
  const bound = {};
  for (const { name, keys } of actions) {
    if (keys.length) bound[name] = [...keys];
    else {
      const arrow = ARROWS[name];
      const key = arrow && !taken.has(arrow) ? arrow : SPARE.find((code) => !taken.has(code));
      if (key) taken.add(key);
      bound[name] = key ? [key] : [];
    }
  }
  return bound;
}

// The standard pad's cross and left stick, whose upper half is negative.
const CROSS = {
  left: ['pad:button14', 'pad:axis0-'],
  right: ['pad:button15', 'pad:axis0+'],
  up: ['pad:button12', 'pad:axis1-'],
  down: ['pad:button13', 'pad:axis1+'],
};

/** What of a pad each action has, where the model names none at all: ways by their names, buttons and axes in order. */
export function padBindingsOf(actions) {
  if (actions.some(({ keys }) => keys.some((code) => code.startsWith('pad:')))) return {};
  const bound = {};
  let button = 0;
  let axis = actions.some(({ name }) => CROSS[name]) ? 2 : 0;
  for (const { name, analog } of actions) {
    if (analog) bound[name] = axis < 4 ? [`pad:axis${axis++}`] : [];
    else if (CROSS[name]) bound[name] = CROSS[name];
    else bound[name] = button < 12 ? [`pad:button${button++}`] : [];
  }
  return bound;
}

/** The button that is down on the first pad, as a code; null where there is none. */
export function pushedOn(pads) {
  const pad = pads.find(Boolean);
  const at = pad ? pad.buttons.findIndex((button) => button.value >= 0.5) : -1;
  return at < 0 ? null : `pad:button${at}`;
}

/** A key's code as people call it. */
export function keyWord(code) {
  return code
    .replace(/^(Key|Digit)/, '')
    .replace(/^Arrow/, '')
    .replace(/^pad:/, 'pad ')
    .replace(/([a-z])([A-Z])/g, '$1 $2');
}

/** What is held: key codes that are down, and those that went down and up again since the last frame was asked for. */
export class Held {
  constructor(bindings, actions, onPad = {}) {
    this.bindings = bindings;
    this.onPad = onPad;
    this.analog = new Set(actions.filter((action) => action.analog).map((action) => action.name));
    this.down = new Set();
    this.tapped = new Set();
  }

  /** Notes a key; returns whether an action is bound to it. */
  press(code, isDown) {
    const bound = Object.values(this.bindings).some((codes) => codes.includes(code));
    if (!bound) return false;
    if (isDown) {
      this.down.add(code);
      this.tapped.add(code);
    } else this.down.delete(code);
    return true;
  }

  letGo() {
    this.down.clear();
    this.tapped.clear();
  }

  /** The value of each action in the next frame: what is down, or was tapped since, or is pushed on the pad. */
  next(pads = []) {
    const values = {};
    for (const [action, codes] of Object.entries(this.bindings)) {
      let value = 0;
      for (const code of [...codes, ...(this.onPad[action] ?? [])]) {
        const given = code.startsWith('pad:') ? padValue(code, pads) : Number(this.down.has(code) || this.tapped.has(code));
        if (Math.abs(given) > Math.abs(value)) value = given;
      }
      if (!this.analog.has(action)) value = Math.abs(value) >= 0.5 ? 1 : 0;
      if (value) values[action] = value;
    }
    this.tapped.clear();
    return values;
  }
}

/** A button or an axis of the first pad, in the standard order. */
function padValue(code, pads) {
  const pad = pads.find(Boolean);
  const [, kind, number, half] = /^pad:(button|axis)(\d+)([-+]?)$/.exec(code) ?? [];
  if (!pad || !kind) return 0;
  if (kind === 'axis') {
    const value = pad.axes[number] ?? 0;
    // A stick that is let go rests near 0 and not at it.
    if (Math.abs(value) < 0.12) return 0;
    if (half) return Math.max(0, Math.min(1, half === '-' ? -value : value));
    return Math.max(-1, Math.min(1, value));
  }
  return pad.buttons[number]?.value ?? 0;
}

/** How many frames are due: time passes at a speed, and what cannot be kept up with is let go and told. */
export class Pace {
  constructor(rate) {
    this.rate = rate;
    this.speed = 1;
    this.owed = 0;
    this.last = null;
    this.behind = false;
  }

  /** Frames due at a time in milliseconds, no more than `most`. */
  due(time, most = 4) {
    if (this.last !== null) this.owed += ((time - this.last) / 1000) * this.rate * this.speed;
    this.last = time;
    this.behind = this.owed > 2 * most;
    if (this.behind) this.owed = most;
    // Halves of frames add up to whole ones only nearly.
    const frames = Math.min(Math.floor(this.owed + 1e-6), most);
    this.owed -= frames;
    return frames;
  }

  rest() {
    this.last = null;
    this.owed = 0;
  }
}
