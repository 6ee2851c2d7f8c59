import assert from 'node:assert/strict';
import { test } from 'node:test';
import { bindingsOf, Held, keyWord, Pace, padBindingsOf, pushedOn } from '../src/playing.js';

const action = (name, keys = [], analog = false) => ({ name, keys, analog });

test('an action has its own keys, an arrow by its name, or the next that is free', () => {
  const actions = [action('hop', ['Space']), action('left'), action('burst'), action('lean', ['pad:axis0'], true)];
  assert.deepEqual(bindingsOf(actions), { hop: ['Space'], left: ['ArrowLeft'], burst: ['KeyX'], lean: ['pad:axis0'] });
  assert.deepEqual(['KeyX', 'ArrowLeft', 'pad:axis0', 'ShiftLeft'].map(keyWord), ['X', 'Left', 'pad axis0', 'Shift Left']);
});

test('a key that went down and up between two frames is held in one of them', () => {
  const held = new Held({ hop: ['Space'], left: ['ArrowLeft'] }, [action('hop'), action('left')]);
  assert.equal(held.press('KeyQ', true), false);
  held.press('ArrowLeft', true);
  held.press('Space', true);
  held.press('Space', false);
  assert.deepEqual(held.next(), { hop: 1, left: 1 });
  assert.deepEqual(held.next(), { left: 1 });
  held.letGo();
  assert.deepEqual(held.next(), {});
});

test('a pad has buttons, and axes that rest near their middle', () => {
  const held = new Held({ hop: ['pad:button0'], lean: ['pad:axis0'] }, [action('hop'), action('lean', [], true)]);
  const pad = (button, axis) => [{ buttons: [{ value: button }], axes: [axis] }];
  assert.deepEqual(held.next(pad(0, 0.05)), {});
  assert.deepEqual(held.next(pad(1, -0.5)), { hop: 1, lean: -0.5 });
  assert.deepEqual(held.next(pad(0.4, 0.9)), { lean: 0.9 });
  assert.deepEqual(held.next([]), {});
});

test('a pad that no action names has its cross, its stick and its buttons in order', () => {
  const actions = [action('left'), action('hop'), action('lean', [], true), action('burst')];
  const onPad = padBindingsOf(actions);
  assert.deepEqual([onPad.hop, onPad.burst, onPad.lean], [['pad:button0'], ['pad:button1'], ['pad:axis2']]);
  const held = new Held({ left: [], hop: [], lean: [], burst: [] }, actions, onPad);
  const buttons = (down) => Array.from({ length: 17 }, (_, n) => ({ value: Number(n === down) }));
  assert.deepEqual(held.next([null, { buttons: buttons(14), axes: [0, 0, 0.5, 0] }]), { left: 1, lean: 0.5 });
  assert.deepEqual(held.next([{ buttons: buttons(1), axes: [-0.9, 0, 0, 0] }]), { left: 1, burst: 1 });
  assert.deepEqual(held.next([{ buttons: buttons(3), axes: [0.9, 0, 0, 0] }]), {});
  assert.deepEqual([pushedOn([{ buttons: buttons(3) }]), pushedOn([{ buttons: buttons(-1) }]), pushedOn([])], ['pad:button3', null, null]);
  assert.deepEqual(padBindingsOf([action('hop', ['pad:button2']), action('left')]), {});
});

test('as many frames are due as time has passed, at any speed, and none is made up for', () => {
  const pace = new Pace(60);
  const due = (times) => times.map((time) => pace.due(time));
  assert.deepEqual(due([0, 1000 / 60, 1500 / 60, 2000 / 60, 3000 / 60].map((time) => time + 0.001)), [0, 1, 0, 1, 1]);
  pace.rest();
  pace.speed = 0.5;
  assert.equal(due([1000, 1100]).reduce((sum, one) => sum + one), 3);
  pace.rest();
  assert.deepEqual(due([5000, 9000]), [0, 4]);
  assert.equal(pace.behind, true);
});
