// Moth: a moth that notices Wick at 80 px, chases, strikes at 20 px when it is rested, and rests for half a second: a
// small game for Node. It speaks the protocol of docs/programs.md, over its standard input and output, or with
// --port N over a socket to that port. With --faulty it forgets to rest.
"use strict";
const net = require("node:net");
const readline = require("node:readline");

const faulty = process.argv.includes("--faulty");
const at = process.argv.indexOf("--port");

const HELLO = {
  protocol: 1,
  name: "moth",
  version: "1.0",
  channels: [
    { name: "wick.x", kind: "number" },
    { name: "moth.x", kind: "number" },
    { name: "moth.flight", kind: "label", labels: ["idle", "chase", "strike"] },
    { name: "moth.age", kind: "count" },
    { name: "moth.rest", kind: "count" },
    { name: "wick.hurts", kind: "count" },
  ],
  actions: ["left", "right"],
  events: ["struck", "noticed"],
  rates: [],
  saves: true,
  // Over a socket: by it the library knows that it speaks to the game that it started, and not to one left from before.
  token: process.env.LARKTALLY_TOKEN ?? "",
};

let game = null;
let rate = 60;

const row = () => ({
  "wick.x": game.wick,
  "moth.x": game.moth,
  "moth.flight": game.flight,
  "moth.age": game.age,
  "moth.rest": game.rest,
  "wick.hurts": game.hurts,
});

function enter(flight) {
  game.flight = flight;
  game.age = 0;
}

// One frame: the timer, then the moth's rules, then motion.
function step(left, right, say) {
  game.frame += 1;
  if (game.rest > 0) game.rest -= 1;
  game.age += 1;
  const gap = Math.abs(game.wick - game.moth);
  if (game.flight === "idle" && gap <= 80) {
    enter("chase");
    say("noticed", "moth", { gap });
  } else if (game.flight === "chase" && gap > 120) {
    enter("idle");
  } else if (game.flight === "chase" && gap <= 20 && game.rest === 0) {
    enter("strike");
  } else if (game.flight === "strike" && game.age === 9) {
    say("struck", "moth", {});
    game.hurts += 1;
    if (!faulty) game.rest = 30;
    enter("chase");
  }
  game.wick += ((right - left) * 120) / rate;
  if (game.flight === "chase" && gap > 12) game.moth += (Math.sign(game.wick - game.moth) * 90) / rate;
}

class Refusal extends Error {
  constructor(code, message) {
    super(message);
    this.code = code;
  }
}

const METHODS = {
  hello: () => HELLO,
  reset(params) {
    const [over, under = 1] = String(params.rate ?? "60").split("/").map(Number);
    rate = over / under;
    game = { frame: 0, wick: 40, moth: 200, flight: "idle", age: 0, rest: 0, hurts: 0 };
    return { row: row(), events: [] };
  },
  step({ frames, inputs }) {
    if (game === null) throw new Refusal(-32600, "reset comes before step");
    if (!Number.isInteger(frames) || frames < 0 || typeof inputs !== "object") throw new Refusal(-32602, "step takes frames and inputs");
    for (const name of Object.keys(inputs)) {
      if (!HELLO.actions.includes(name)) throw new Refusal(-32602, `this game takes no action '${name}'`);
      if (inputs[name].length !== frames) throw new Refusal(-32602, `input '${name}' has a value for each frame`);
    }
    const columns = Object.fromEntries(HELLO.channels.map(({ name }) => [name, []]));
    const events = [];
    for (let k = 0; k < frames; k += 1) {
      step(inputs.left?.[k] ?? 0, inputs.right?.[k] ?? 0, (name, source, data) => events.push([game.frame, name, source, data]));
      for (const [name, value] of Object.entries(row())) columns[name].push(value);
    }
    return { columns, events };
  },
  save: () => ({ state: JSON.stringify(game) }),
  load({ state }) {
    game = JSON.parse(state);
    return { frame: game.frame, row: row() };
  },
  end: () => ({}),
};

function answer(line) {
  let id = null;
  try {
    const request = JSON.parse(line);
    id = request.id ?? null;
    if (!Object.hasOwn(METHODS, request.method)) throw new Refusal(-32601, `no method '${request.method}'`);
    return { jsonrpc: "2.0", id, result: METHODS[request.method](request.params ?? {}) };
  } catch (error) {
    const code = error instanceof SyntaxError && id === null ? -32700 : (error.code ?? -32603);
    return { jsonrpc: "2.0", id, error: { code: Number.isInteger(code) ? code : -32603, message: error.message } };
  }
}

function speak(input, output) {
  readline.createInterface({ input }).on("line", (line) => {
    const said = answer(line);
    output.write(JSON.stringify(said) + "\n", () => {
      if (said.result && line.includes('"method":"end"')) process.exit(0);
    });
  });
}

process.stderr.write(`moth 1.0${faulty ? ", with its fault" : ""}\n`);
if (at > 0) {
  const socket = net.connect(Number(process.argv[at + 1]), "127.0.0.1", () => speak(socket, socket));
  socket.on("close", () => process.exit(0));
} else {
  speak(process.stdin, process.stdout);
  process.stdin.on("end", () => process.exit(0));
}
