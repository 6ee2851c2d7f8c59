import { useCallback, useEffect, useMemo, useRef, useState } from 'preact/hooks';
import { onPalette } from './colours.js';
import { firstDivergence } from './compare.js';
import { hasLevel } from './level.js';
import { beginning, fitted, marksOf, putInAddress, rowInAddress, zoomed } from './looking.js';
import { connect } from './live.js';
import { Panel } from './panel.jsx';
import { Playing } from './play.jsx';
import { Run } from './run.js';
import { Sentence } from './sentence.jsx';
import { LevelView, Timeline, Transport } from './stage.jsx';
import { unpack } from './unpack.js';

// Frames of a running game that are in sight: ten seconds at 60 a second.
const FOLLOWED = 600;
const KEYS = [
  ['space', 'run on, or stand still'],
  ['← →', 'one frame back, on; with shift ten'],
  ['Home End', 'the first row, the last'],
  ['b B', 'the next breach or finding, the one before'],
  ['d', 'the first row in which the two runs differ'],
  ['+ - 0', 'zoom in, out, the whole run; or the wheel'],
  ['[ ]', 'loop from here, to here; \\ ends it'],
  ['s', 'slower: half, a quarter, and full again'],
  ['g', 'the other run, shown or not'],
  ['v', 'the whole way, or near the body'],
  ['u', 'undo the last turned number'],
];

/** The page: of one run or two that stand in it, or of a command that serves it. */
export function App({ runs = [], live = false }) {
  const [run, setRun] = useState(runs[0] ?? null);
  const [before, setBefore] = useState(runs[1] ?? null);
  const [view, setView] = useState({ row: null, range: null, near: false, ghost: true, followed: null, loop: null });
  const [moving, setMoving] = useState(false);
  const [speed, setSpeed] = useState(1);
  const [chosen, setChosen] = useState(null);
  const [lines, setLines] = useState(null);
  const [help, setHelp] = useState(false);
  const [theme, setTheme] = useState(0);
  const [server, setServer] = useState({ connected: false, scenarios: [], verdicts: {}, params: {} });
  const [why, setWhy] = useState({});
  const [playing, setPlaying] = useState(null);
  const [, setTick] = useState(0);
  const wire = useRef(null);
  const heard = useRef(Promise.resolve());
  const newest = useRef(null);
  newest.current = { run, before, playing, chosen, row: view.row };

  useEffect(() => {
    if (playing) playing.changed = () => setTick((n) => n + 1);
  }, [playing]);
  useEffect(() => onPalette(() => setTheme((n) => n + 1)), []);
  useEffect(() => {
    if (!live) return undefined;
    wire.current = connect(
      (message) => {
        // One after another: a run takes a moment to unpack, and what is said of it comes after it.
        heard.current = heard.current.then(() => told(message));
      },
      (connected) => {
        setServer((was) => ({ ...was, connected }));
        // What was played went with the wire.
        if (!connected) setPlaying(null);
      },
    );
    return () => wire.current.close();
  }, []);

  const send = useCallback((message) => wire.current?.send(message), []);

  async function told(message) {
    if (message instanceof ArrayBuffer) {
      const { described, columns } = await unpack(new Uint8Array(message));
      arrived(described, new Run(described.runs[0], columns));
    } else if (message.is === 'rows') {
      newest.current.playing?.rows(message);
    } else if (message.is === 'why') {
      setWhy((was) => ({ ...was, [message.ask]: message.text }));
    } else if (message.is === 'verdicts') {
      setServer((was) => ({ ...was, verdicts: { ...was.verdicts, [message.scenario]: message } }));
    } else if (message.is === 'hello') {
      setServer((was) => ({ ...was, ...message, connected: true }));
    } else if (message.is === 'running') {
      setServer((was) => ({ ...was, running: message, failed: '', printed: '' }));
    } else if (message.is === 'failed') {
      setServer((was) => ({ ...was, running: null, failed: message.text }));
    } else if (message.is === 'printed') {
      setServer((was) => ({ ...was, printed: message.text }));
    } else if (message.is === 'kept') {
      setServer((was) => ({ ...was, kept: message }));
    } else if (message.is === 'left') {
      setPlaying(null);
    }
  }

  function arrived(described, arriving) {
    if (described.is === 'play') {
      // Nothing has moved yet: what the run before shows is what there will be to see.
      const shows = newest.current.run;
      if (shows?.name === arriving.name) Object.assign(arriving, { lanes: withInputs(shows.lanes), lines: shows.lines });
      setPlaying(new Playing(arriving, send));
      setMoving(false);
      return;
    }
    if (described.is === 'live') {
      // One run that grows: there is none before it.
      setBefore(null);
      setRun(arriving);
      setServer((was) => ({ ...was, running: null, failed: '' }));
      return;
    }
    setWhy({});
    setServer((was) => ({ ...was, running: null, failed: '', took: described.took, kept: null, played: described.is === 'played' }));
    // The run before stays beside the new one; of another scenario it would say nothing.
    const shown = newest.current;
    // One that stopped on the way does not take the place of the last that came to its end.
    const good = shown.run?.stopped ? shown.before : shown.run;
    setBefore(good?.name === arriving.name ? good : null);
    setRun(arriving);
    // What stands open is told of the new run too.
    const open = arriving.claims.find((claim) => claim.name === shown.chosen && claim.rows.length > 0);
    if (open) askWhy(open, open.rows.includes(shown.row) ? shown.row : open.rows[0]);
  }

  function askWhy(claim, at) {
    setWhy((was) => ({ ...was, [claim.name]: was[claim.name] ?? 'asking …' }));
    send({ do: 'why', claim: claim.name, row: at, ask: claim.name });
  }

  const shown = playing?.run ?? run;
  const divergence = useMemo(() => (run && before && !playing ? firstDivergence(run, before) : null), [run, before, playing]);
  const marks = useMemo(() => marksOf(run, divergence), [run, divergence]);
  const last = shown ? shown.rows - 1 : 0;
  // Where nobody chose a row, the first breach or the last row is looked at.
  const row = shown ? (playing ? last : Math.min(view.row ?? rowInAddress() ?? beginning(marks, last), last)) : 0;
  // A game that runs by itself is followed until somebody looks back.
  const asked = server?.listening && view.row === null && view.range === null ? [Math.max(0, last + 1 - FOLLOWED), last + 1] : view.range;
  const range = playing ? playing.range() : fitted(asked, shown?.rows ?? 1);

  // Keys may come faster than pictures: each goes on from where the one before it led to.
  const looked = useRef({});
  looked.current = { row, range };
  const to = useCallback((wanted) => {
    looked.current.row = Math.max(0, Math.min(wanted, (newest.current.run?.rows ?? 1) - 1));
    setView((was) => ({ ...was, row: looked.current.row }));
  }, []);
  const zoom = useCallback((wanted) => {
    looked.current.range = fitted(wanted, newest.current.run?.rows ?? 1);
    setView((was) => ({ ...was, range: wanted }));
  }, []);

  useEffect(() => {
    if (shown && !playing && view.row !== null) putInAddress(row);
  }, [row, playing]);
  // A link may be followed while the page is open.
  useEffect(() => {
    const followed = () => rowInAddress() !== null && to(rowInAddress());
    window.addEventListener('hashchange', followed);
    return () => window.removeEventListener('hashchange', followed);
  }, []);

  useEffect(() => {
    if (!moving || !run) return undefined;
    let frame = 0;
    let from = performance.now();
    const step = (time) => {
      const due = Math.floor(((time - from) / 1000) * (run.rate ?? 60) * speed);
      if (due > 0) {
        from += (due * 1000) / ((run.rate ?? 60) * speed);
        let at = looked.current.row + due;
        const [start, stop] = view.loop ?? [0, last];
        if (at > stop) {
          if (!view.loop) {
            to(stop);
            setMoving(false);
            return;
          }
          at = start + ((at - start) % (stop - start + 1));
        }
        to(at);
      }
      frame = requestAnimationFrame(step);
    };
    frame = requestAnimationFrame(step);
    return () => cancelAnimationFrame(frame);
  }, [moving, speed, run, view.loop]);

  const turn = useCallback(
    (params) => {
      setServer((was) => ({ ...was, turned: [...(was.turned ?? []), was.params], params }));
      send({ do: 'turn', params });
    },
    [send],
  );
  const undo = () => {
    const turned = server.turned ?? [];
    if (!turned.length) return;
    setServer((was) => ({ ...was, turned: turned.slice(0, -1), params: turned.at(-1) }));
    send({ do: 'turn', params: turned.at(-1) });
  };

  useEffect(() => {
    const pressed = (event) => {
      if (newest.current.playing || event.target.matches?.('input, select, textarea') || event.ctrlKey || event.metaKey) return;
      const by = event.shiftKey ? 10 : 1;
      const { row, range } = looked.current;
      const breaches = marks.filter((mark) => mark.kind !== 'divergence').map((mark) => mark.row);
      const keys = {
        ' ': () => setMoving((was) => !was),
        ArrowLeft: () => to(row - by),
        ArrowRight: () => to(row + by),
        Home: () => to(0),
        End: () => to(last),
        b: () => to(breaches.find((one) => one > row) ?? breaches[0] ?? row),
        B: () => to(breaches.findLast((one) => one < row) ?? breaches.at(-1) ?? row),
        d: () => divergence && to(divergence.row),
        '+': () => zoom(zoomed(range, row, 0.5, last + 1)),
        '=': () => zoom(zoomed(range, row, 0.5, last + 1)),
        '-': () => zoom(zoomed(range, row, 2, last + 1)),
        0: () => zoom(null),
        '[': () => setView((was) => ({ ...was, loop: [row, Math.max(was.loop?.[1] ?? last, row)] })),
        ']': () => setView((was) => ({ ...was, loop: [Math.min(was.loop?.[0] ?? 0, row), row] })),
        '\\': () => setView((was) => ({ ...was, loop: null })),
        s: () => setSpeed((was) => (was === 1 ? 0.5 : was === 0.5 ? 0.25 : 1)),
        g: () => setView((was) => ({ ...was, ghost: !was.ghost })),
        v: () => setView((was) => ({ ...was, near: !was.near })),
        u: undo,
        '?': () => setHelp((was) => !was),
        Escape: () => setHelp(false),
      };
      const does = keys[event.key];
      // A button that has the keyboard is pressed with the space bar.
      if (!does || (event.key === ' ' && event.target.matches?.('button, summary'))) return;
      event.preventDefault();
      does();
    };
    window.addEventListener('keydown', pressed);
    return () => window.removeEventListener('keydown', pressed);
  });

  const ask = (claim, asked) => {
    if (claim.name === chosen && asked === row) {
      setChosen(null);
      return;
    }
    setChosen(claim.name);
    to(asked);
    if (live && !playing) askWhy(claim, asked);
  };

  const other = view.ghost && (playing ? run : before);
  const drawn = lines ?? shown?.lines ?? [];
  return (
    <div class={`whole${!playing && run?.claims.some((claim) => claim.name === chosen && !claim.passed) ? ' is-asking' : ''}`} data-rows={shown?.rows}>
      <Sentence
        {...{ run, before, server, live, playing, send, help }}
        onHelp={() => setHelp(!help)}
        onChoose={(scenario) => {
          setView({ ...view, row: null, range: null, loop: null });
          setLines(null);
          send({ do: 'choose', scenario });
        }}
      />
      {help && <KeyList />}
      {server.failed && (
        <pre class="failed" role="alert">
          {server.failed}
          {run && !playing && '\n\nWhat stands below is the last run that came to its end.'}
        </pre>
      )}
      {shown ? (
        <main>
          <div class="stage">
            {hasLevel(shown) && <LevelView {...{ run: shown, other, row, view: playing ? { ...view, near: true, reach: 16 } : view, theme }} onView={(more) => setView({ ...view, ...more })} />}
            <Transport
              {...{ run: shown, row, last, moving, speed, view, playing, live, server, send, before }}
              onMove={() => setMoving(!moving)}
              onRow={to}
              onSpeed={setSpeed}
              onView={(more) => setView({ ...view, ...more })}
            />
            <Timeline
              {...{ run: shown, other, row, range, marks: playing ? [] : marks, lines: drawn, theme, playing, loop: view.loop }}
              onRow={(wanted) => {
                setMoving(false);
                to(wanted);
              }}
              onRange={zoom}
              onLines={setLines}
            />
          </div>
          <Panel {...{ run: shown, before, row, chosen, why, server, live, playing, drawn, send }} onAsk={ask} onRow={to} onTurn={turn} onUndo={undo} onLines={setLines} />
        </main>
      ) : (
        <p class="waiting">{live ? 'Waiting for the first run …' : 'This file holds no run.'}</p>
      )}
    </div>
  );
}

function KeyList() {
  return (
    <dl class="keys">
      {KEYS.map(([key, does]) => (
        <div key={key}>
          <dt>{key}</dt>
          <dd>{does}</dd>
        </div>
      ))}
    </dl>
  );
}

const withInputs = (lanes) => (lanes.some(([kind]) => kind === 'inputs') ? lanes : [...lanes, ['inputs', 'inputs']]);
