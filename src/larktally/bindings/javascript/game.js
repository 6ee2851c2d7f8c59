// Lantern: Wick on a quay, as a small game in JavaScript. The game knows nothing of larktally; the lines at the end bind it.
"use strict";
const { Subject } = require("./larktally.js");

const tuning = { speed: 120 };
let wick;
let rate = 60;

function begin() {
  wick = { x: 24, y: 16, vx: 0, vy: 0, grounded: true, gait: "standing", oil: 7, rest: 0 };
}

const subject = new Subject("lantern", "1.0");

// One frame: the timer, then the rules, then motion (semi-implicit Euler).
function step() {
  if (wick.rest > 0) wick.rest -= 1;
  if (wick.gait === "airborne" && wick.grounded) {
    wick.gait = "standing";
  } else if (wick.gait === "standing" && subject.pressed("hop")) {
    wick.vy = 360;
    wick.gait = "airborne";
    wick.grounded = false;
    subject.emit("hop", "wick", { speed: wick.vy });
  }
  if (subject.pressed("spark") && wick.rest === 0 && wick.oil > 0) {
    wick.oil -= 1;
    wick.rest = 12;
    subject.emit("spark", "can", { left: wick.oil });
    subject.note("can.oil", "a spark was thrown");
  }
  wick.vx = tuning.speed * subject.value("walk");
  wick.vy -= 900 / rate;
  wick.x += wick.vx / rate;
  wick.y += wick.vy / rate;
  if (wick.y <= 16) {
    if (!wick.grounded) subject.emit("landed", "wick");
    wick.y = 16;
    wick.vy = 0;
    wick.grounded = true;
  }
}

begin();
const own = () => wick;
subject.number("wick.x", own, "x").number("wick.y", own, "y").number("wick.vx", own, "vx").number("wick.vy", own, "vy");
subject.flag("wick.grounded", own, "grounded").label("wick.gait", ["standing", "airborne"], own, "gait");
subject.count("can.oil", own, "oil").count("can.rest", own, "rest").flag("can.empty", () => wick.oil === 0);
subject.analog("walk").action("hop").action("spark");
subject.event("hop").event("landed").event("spark");
subject.param("speed", () => tuning, "speed", { least: 10, most: 400 }).savedAsBound();
subject.onReset((start) => {
  begin();
  rate = start.rate;
});

// A host that owns its loop asks once a tick; where there is no port to connect to, serve() owns the loop.
if (subject.connect()) {
  const tick = () => {
    while (subject.tick()) step();
    if (!subject.ended) setImmediate(tick);
  };
  tick();
} else {
  subject.serve(step);
}
