// larktally.js: makes a game in JavaScript (Node) a subject that larktally records, replays and judges. One file, no
// dependencies; under the licence of Lark Tally. How it is used: docs/programs.md, and game.js beside this file.
"use strict";
const net = require("node:net");

const MOST_FRAMES = 65536;

/** A request that is refused, with the code of JSON-RPC 2.0 that says why. */
class Refusal extends Error {
  constructor(code, message) {
    super(message);
    this.code = code;
  }
}

/**
 * A game as a subject. Bind what is to be recorded, say what it takes, and hand over each frame: with serve(step), which calls the
 * game, or with tick(), which a host calls that owns its loop.
 *
 * A channel is bound to a field, number("wick.x", () => wick, "x"), and is saved with it, or to what a function returns,
 * number("wick.height", () => wick.y - 16).
 */
class Subject {
  #name;
  #version;
  #channels = [];
  #kept = [];
  #params = [];
  #actions = [];
  #events = [];
  #rates = [];
  #reset = () => {};
  #save = null;
  #load = null;
  #saves = false;
  #running = false;
  #binary = false;
  #output = null;
  #lines = [];
  #rest = Buffer.alloc(0);
  // The request that is being answered: its id, the inputs of its frames, and how many are left.
  #id = null;
  #wanted = {};
  #asked = 0;
  #left = 0;
  #columns = [];
  #emitted = [];
  #notes = [];
  #now = {};
  #before = {};
  #failed = "";
  frame = 0;
  /** Whether it was asked to end. */
  ended = false;

  constructor(name, version) {
    this.#name = name;
    this.#version = version;
  }

  number(name, owner, key) {
    return this.#bind({ name, kind: "number" }, owner, key);
  }
  count(name, owner, key) {
    return this.#bind({ name, kind: "count" }, owner, key);
  }
  flag(name, owner, key) {
    return this.#bind({ name, kind: "flag" }, owner, key);
  }
  /** One of `labels`, as text. */
  label(name, labels, owner, key) {
    return this.#bind({ name, kind: "label", labels }, owner, key);
  }
  /** A number that is an angle: what a whole turn is. */
  angle(name, wraps, owner, key) {
    return this.#bind({ name, kind: "number", wraps }, owner, key);
  }
  /** State that is no channel, for savedAsBound(): a field of what `owner` returns. */
  keep(owner, key) {
    this.#kept.push({ owner, key });
    return this;
  }
  action(name) {
    this.#actions.push({ name });
    return this;
  }
  analog(name) {
    this.#actions.push({ name, analog: true });
    return this;
  }
  event(name) {
    this.#events.push(name);
    return this;
  }
  /** The rates that it accepts, as text: "60", "60000/1001". None said accepts any. */
  rates(...accepted) {
    this.#rates = accepted;
    return this;
  }
  /** A field that a run may set; its default is what stands there now. It is set before and after a reset, so that it lasts. */
  param(name, owner, key, bounds = {}) {
    this.#params.push({ told: { name, default: owner()[key], ...bounds }, owner, key });
    return this;
  }
  /** Back to the beginning, whatever was before: does({rate, exactRate, seed}). */
  onReset(does) {
    this.#reset = does;
    return this;
  }
  /** What was bound and kept is all of the state: it is saved and put back. */
  savedAsBound() {
    this.#saves = true;
    return this;
  }
  /** The game's own functions save its state as text, and put it back. */
  onSave(save, load) {
    this.#saves = true;
    this.#save = save;
    this.#load = load;
    return this;
  }

  /** By how much an action is held in this frame. */
  value(action) {
    return this.#known(action, this.#now);
  }
  held(action) {
    return Math.abs(this.value(action)) >= 0.5;
  }
  /** Held in this frame and not in the one before. */
  pressed(action) {
    return this.held(action) && Math.abs(this.#known(action, this.#before)) < 0.5;
  }
  emit(name, source = "", data = {}) {
    // Nobody asks for the events of a game that is only played.
    if (this.#output !== null) this.#emitted.push([this.frame, name, source, data]);
  }
  /** Why a channel is what it is in this frame; it stands under a claim that is broken there. */
  note(channel, text) {
    if (this.#output !== null) this.#notes.push([this.frame, channel, text]);
  }
  /** What went wrong in this frame; the run ends with it. */
  fail(message) {
    this.#failed = message;
  }

  /**
   * Speaks over standard input and output, or over the port in LARKTALLY_PORT, and calls `step` for each frame, until it is asked to
   * end. What the game prints with console.log meanwhile goes to standard error.
   */
  serve(step) {
    const frames = () => {
      while (this.tick()) {
        try {
          step();
        } catch (error) {
          this.fail(String(error.message ?? error));
        }
      }
    };
    if (this.connect(frames)) return;
    const write = process.stdout.write.bind(process.stdout);
    process.stdout.write = process.stderr.write.bind(process.stderr);
    this.#open({ write, end: () => process.exit(0) }, process.stdin, frames);
  }

  /** Connects to the port in LARKTALLY_PORT; false where there is none, and the game is played as always. */
  connect(heard = () => {}) {
    const port = process.env.LARKTALLY_PORT;
    if (!port) return false;
    const socket = net.connect(Number(port), "127.0.0.1");
    socket.setNoDelay(true);
    socket.on("error", () => process.exit(0));
    this.#open(socket, socket, heard);
    return true;
  }

  /**
   * Whether a frame is wanted now: a host that owns its loop says `while (subject.tick()) step();` once a tick. It takes the row that
   * the frame before left, and does not wait.
   */
  tick() {
    if (this.#left > 0) {
      this.#takeRow();
      this.#left -= 1;
      if (this.#left === 0) this.#answerStep();
    }
    while (this.#left === 0) {
      if (this.ended || this.#lines.length === 0) return false;
      this.#take(this.#lines.shift());
    }
    const k = this.#asked - this.#left;
    this.#before = this.#now;
    this.#now = {};
    for (const { name } of this.#actions) this.#now[name] = this.#wanted[name]?.[k] ?? 0;
    this.frame += 1;
    return true;
  }

  #bind(told, owner, key) {
    const get = key === undefined ? owner : () => owner()[key];
    this.#channels.push({ told, get: checked(told, get) });
    if (key !== undefined) this.keep(owner, key);
    return this;
  }

  #known(action, values) {
    if (!this.#actions.some(({ name }) => name === action)) throw new Error(`no action '${action}' was announced`);
    return values[action] ?? 0;
  }

  #open(output, input, heard) {
    this.#output = output;
    input.on("data", (chunk) => {
      let held = Buffer.concat([this.#rest, chunk]);
      for (let end = held.indexOf(10); end >= 0; end = held.indexOf(10)) {
        this.#lines.push(held.toString("utf8", 0, end));
        held = held.subarray(end + 1);
      }
      this.#rest = held;
      heard();
    });
    input.on("end", () => process.exit(0));
  }

  #send(message, bytes) {
    const line = Buffer.from(JSON.stringify({ jsonrpc: "2.0", id: this.#id, ...message }) + "\n");
    this.#output.write(bytes ? Buffer.concat([line, bytes]) : line);
  }

  #refuse(code, message, data) {
    this.#send({ error: { code, message, ...(data ? { data } : {}) } });
  }

  #take(line) {
    this.#id = null;
    try {
      const request = parsed(line);
      this.#id = request.id ?? null;
      const method = METHODS[request.method];
      if (typeof request.method !== "string") throw new Refusal(-32600, "no method");
      if (!Object.hasOwn(METHODS, request.method)) throw new Refusal(-32601, `no method ${request.method}`);
      this.#do(method, request.params ?? {});
    } catch (error) {
      this.#refuse(error instanceof Refusal ? error.code : -32000, String(error.message ?? error));
    }
  }

  #do(method, params) {
    if (method === "step") this.#beginStep(params);
    else if (method === "end") this.#end();
    else this.#send({ result: { hello: () => this.#hello(params), reset: () => this.#begin(params), save: () => this.#saved(), load: () => this.#loaded(params) }[method]() });
  }

  #end() {
    this.#send({ result: {} });
    this.ended = true;
    this.#output.write("", () => (this.#output.destroy ?? this.#output.end).call(this.#output));
  }

  #hello({ columns = [] }) {
    this.#binary = Array.isArray(columns) && columns.includes("binary");
    return {
      protocol: 1,
      name: this.#name,
      version: this.#version,
      channels: this.#channels.map(({ told }) => told),
      actions: this.#actions,
      events: this.#events,
      rates: this.#rates,
      params: this.#params.map(({ told }) => told),
      saves: this.#saves,
      ...(this.#binary ? { columns: "binary" } : {}),
      token: process.env.LARKTALLY_TOKEN ?? "",
    };
  }

  #row() {
    return Object.fromEntries(this.#channels.map(({ told, get }) => [told.name, plain(get())]));
  }

  #setParams(given) {
    for (const { told, owner, key } of this.#params) owner()[key] = given[told.name] ?? told.default;
  }

  #begin({ rate = "60", seed = 0, params = {} }) {
    const [over, under = 1] = String(rate).split("/").map(Number);
    if (!(over > 0 && under > 0)) throw new Refusal(-32602, "reset takes a rate");
    this.frame = 0;
    this.#running = true;
    this.#failed = "";
    [this.#now, this.#before, this.#emitted, this.#notes] = [{}, {}, [], []];
    this.#setParams(params);
    this.#reset({ rate: over / under, exactRate: String(rate), seed });
    this.#setParams(params);
    const result = { row: this.#row(), events: this.#emitted, notes: this.#notes };
    [this.#emitted, this.#notes] = [[], []];
    return result;
  }

  #beginStep({ frames, inputs }) {
    if (!this.#running) throw new Refusal(-32600, "reset comes before step");
    if (!Number.isInteger(frames) || frames < 0 || frames > MOST_FRAMES) throw new Refusal(-32602, `frames is a whole number from 0 to ${MOST_FRAMES}`);
    if (inputs === null || typeof inputs !== "object") throw new Refusal(-32602, "inputs is an object of lists");
    for (const [name, values] of Object.entries(inputs)) {
      if (!this.#actions.some((one) => one.name === name)) throw new Refusal(-32602, `no action ${name}`);
      if (!Array.isArray(values) || values.length !== frames) throw new Refusal(-32602, "an input has a value for each frame");
    }
    this.#wanted = inputs;
    this.#asked = this.#left = frames;
    this.#columns = this.#channels.map(() => []);
    if (frames === 0) this.#answerStep();
  }

  #takeRow() {
    try {
      if (this.#failed) throw new Error(this.#failed);
      this.#channels.forEach(({ get }, n) => this.#columns[n].push(get()));
    } catch (error) {
      this.#refuse(-32000, String(error.message ?? error), { frame: this.frame });
      this.#left = 1;
      this.#asked = -1;
      this.#running = false;
    }
  }

  #answerStep() {
    // What failed is answered already.
    if (this.#asked < 0) return;
    const result = { events: this.#emitted, ...(this.#notes.length > 0 ? { notes: this.#notes } : {}) };
    if (this.#binary) {
      const bytes = Buffer.concat(this.#channels.map(({ told }, n) => packed(told, this.#columns[n])));
      this.#send({ result: { ...result, bytes: bytes.length } }, bytes);
    } else {
      const columns = this.#channels.map(({ told }, n) => [told.name, this.#columns[n].map(plain)]);
      this.#send({ result: { ...result, columns: Object.fromEntries(columns) } });
    }
    [this.#emitted, this.#notes] = [[], []];
  }

  #saved() {
    if (!this.#saves) throw new Refusal(-32600, "this game does not save");
    const own = this.#save ? this.#save() : this.#kept.map(({ owner, key }) => plain(owner()[key]));
    return { state: JSON.stringify({ frame: this.frame, held: this.#now, own }) };
  }

  #loaded({ state }) {
    const { frame, held, own } = parsed(state, -32602);
    if (!this.#saves || !Number.isInteger(frame)) throw new Refusal(-32602, "load takes a state that save gave");
    if (this.#load) this.#load(own);
    else this.#kept.forEach(({ owner, key }, n) => (owner()[key] = SPECIAL.get(own[n]) ?? own[n]));
    this.frame = frame;
    this.#now = held;
    this.#running = true;
    this.#failed = "";
    return { frame, row: this.#row() };
  }
}

const METHODS = { hello: "hello", reset: "reset", step: "step", save: "save", load: "load", end: "end" };
const SPECIAL = new Map([["nan", NaN], ["inf", Infinity], ["-inf", -Infinity], ["-0.0", -0]]);

function parsed(text, code = -32700) {
  try {
    const found = JSON.parse(text);
    if (found !== null && typeof found === "object") return found;
  } catch {
    throw new Refusal(code, code === -32700 ? "not JSON" : "load takes a state that save gave");
  }
  throw new Refusal(code === -32700 ? -32600 : code, "it is no object");
}

/** A value as JSON has it, which has no number for nan, inf and, written by JSON.stringify, minus zero. */
function plain(value) {
  if (typeof value !== "number") return value;
  if (Number.isNaN(value)) return "nan";
  if (Object.is(value, -0)) return "-0.0";
  return Number.isFinite(value) ? value : value < 0 ? "-inf" : "inf";
}

/** The getter of a channel, which says of a value of another kind what it found. */
function checked({ name, kind, labels }, get) {
  const fits = {
    number: (value) => typeof value === "number",
    count: (value) => Number.isInteger(value),
    flag: (value) => typeof value === "boolean",
    label: (value) => labels.includes(value),
  }[kind];
  return () => {
    const value = get();
    if (!fits(value)) throw new Error(`channel ${name} is a ${kind} and was ${String(value)}`);
    return value;
  };
}

/** A column as bytes, little-endian: 8 of a number or a count, 1 of a flag, 2 of a label's place. */
function packed({ kind, labels }, values) {
  if (kind === "flag") return Buffer.from(values.map(Number));
  const bytes = Buffer.alloc(values.length * (kind === "label" ? 2 : 8));
  values.forEach((value, k) => {
    if (kind === "number") bytes.writeDoubleLE(value, k * 8);
    else if (kind === "count") bytes.writeBigInt64LE(BigInt(value), k * 8);
    else bytes.writeUInt16LE(labels.indexOf(value), k * 2);
  });
  return bytes;
}

module.exports = { Subject };
