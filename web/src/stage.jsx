import { useEffect, useLayoutEffect, useRef, useState } from 'preact/hooks';
import { swatch } from './level.js';
import { drawLevel } from './level.js';
import { AXIS, drawLanes, GUTTER, laneHeights, rowScale, usedInputs } from './lanes.js';
import { ChannelLine } from './lines.jsx';
import { placesOf } from './places.js';
import { PlayBar } from './play.jsx';
import { zoomed } from './looking.js';

const LINE = 64;

/** Redraws when the canvas gets another size. */
function useSize(place) {
  const [size, setSize] = useState('');
  useEffect(() => {
    const resized = new ResizeObserver(([entry]) => setSize(`${entry.contentRect.width}x${entry.contentRect.height}`));
    resized.observe(place.current);
    return () => resized.disconnect();
  }, []);
  return size;
}

export function LevelView({ run, other, row, view, theme, onView }) {
  const canvas = useRef(null);
  const size = useSize(canvas);
  const places = placesOf(run);
  useLayoutEffect(() => {
    drawLevel(canvas.current, run, row, other, view);
  }, [run, other, row, view.near, view.followed, theme, size]);
  return (
    <div class="level">
      <canvas ref={canvas} role="img" aria-label={`the level in row ${row}`} />
      <div class="corner">
        {places.length > 1 && (
          <select aria-label="followed" value={view.followed ?? places[0].name} onChange={(event) => onView({ followed: event.target.value })}>
            {places.map(({ name }) => (
              <option key={name}>{name}</option>
            ))}
          </select>
        )}
        <button aria-pressed={view.near} onClick={() => onView({ near: !view.near })} title="v">
          near
        </button>
        {other && <span class="ghost">┄ {other.ghostName ?? 'the run before'}</span>}
      </div>
    </div>
  );
}

export function Transport({ run, row, last, moving, speed, view, playing, live, server, send, before, onMove, onRow, onSpeed, onView }) {
  if (playing) return <PlayBar playing={playing} />;
  const seconds = run.seconds(row);
  return (
    <div class="transport">
      <button onClick={() => onRow(row - 1)} aria-label="one frame back">
        ◂
      </button>
      <button onClick={onMove} aria-label={moving ? 'stand still' : 'run on'} class="strong">
        {moving ? '❚❚' : '▶'}
      </button>
      <button onClick={() => onRow(row + 1)} aria-label="one frame on">
        ▸
      </button>
      <label>
        row{' '}
        <input
          type="number"
          min="0"
          max={last}
          value={row}
          onChange={(event) => onRow(Number(event.target.value))}
          data-row={row}
        />
      </label>
      <span class="quiet">
        of {last}
        {seconds !== null && ` · ${seconds.toFixed(3)} s`}
      </span>
      <button onClick={() => onSpeed(speed === 1 ? 0.5 : speed === 0.5 ? 0.25 : 1)} title="s">
        {speed === 1 ? 'full speed' : speed === 0.5 ? 'half speed' : 'quarter speed'}
      </button>
      {view.loop && (
        <button onClick={() => onView({ loop: null })} title="ends the loop">
          loop {view.loop[0]}..{view.loop[1]} ✕
        </button>
      )}
      {before && (
        <button aria-pressed={view.ghost} onClick={() => onView({ ghost: !view.ghost })} title="g">
          ┄ other run
        </button>
      )}
      <span class="held" title="held in this row">
        {run.heldIn(row).join(' + ')}
      </span>
      {live && (
        <span class="right">
          {server.played && <Keep {...{ server, send }} />}
          {server.script && (
            <button onClick={() => send({ do: 'own' })} title="what you played runs at each save until then">
              back to its own script
            </button>
          )}
          {!server.listening && (
            <button class="strong" onClick={() => send({ do: 'play' })}>
              play it yourself
            </button>
          )}
        </span>
      )}
    </div>
  );
}

function Keep({ server, send }) {
  const [name, setName] = useState('played');
  return (
    <form
      class="keep"
      onSubmit={(event) => {
        event.preventDefault();
        send({ do: 'keep', name });
      }}
    >
      <input aria-label="name" size="10" value={name} onInput={(event) => setName(event.target.value)} />
      <button>keep</button>
      {server.kept && <span class="quiet">kept</span>}
    </form>
  );
}

/** Lanes and lines on one axis, with one cursor over them. */
export function Timeline({ run, other, row, range, marks, lines, theme, playing, loop, onRow, onRange, onLines }) {
  const stage = useRef(null);
  const canvas = useRef(null);
  const size = useSize(canvas);
  const [selecting, setSelecting] = useState(null);
  const lanes = run.lanes;
  const heights = laneHeights(run, lanes);
  const version = playing ? playing.version : 0;
  useLayoutEffect(() => {
    drawLanes(canvas.current, run, lanes, range, marks);
  }, [run, range[0], range[1], marks, theme, size, version]);
  // What was measured once, and not in each picture: to ask makes the browser lay out all of the page again.
  const left = useRef(0);
  const scale = rowScale(Number.parseFloat(size) || 800, range);
  const rowAt = (event) => scale.row(event.clientX - left.current);
  const down = (event) => {
    if (event.target.closest('button') || playing) return;
    left.current = stage.current.getBoundingClientRect().left;
    stage.current.setPointerCapture(event.pointerId);
    if (event.shiftKey) setSelecting([rowAt(event), rowAt(event)]);
    else {
      setSelecting('row');
      onRow(rowAt(event));
    }
  };
  const move = (event) => {
    if (selecting === 'row') onRow(rowAt(event));
    else if (selecting) setSelecting([selecting[0], rowAt(event)]);
  };
  const up = () => {
    if (Array.isArray(selecting)) {
      const [from, to] = [Math.min(...selecting), Math.max(...selecting)];
      if (to - from >= 3) onRange([Math.max(0, from), Math.min(to + 1, run.rows)]);
    }
    setSelecting(null);
  };
  const wheel = (event) => {
    if (playing) return;
    event.preventDefault();
    left.current = stage.current.getBoundingClientRect().left;
    onRange(zoomed(range, Math.max(range[0], Math.min(rowAt(event), range[1])), event.deltaY > 0 ? 1.25 : 0.8, run.rows));
  };
  const x = scale.x(row + 0.5);
  const shownRange = Array.isArray(selecting) ? [Math.min(...selecting), Math.max(...selecting) + 1] : loop && [loop[0], loop[1] + 1];
  let top = AXIS;
  return (
    <div class="timeline" ref={stage} onPointerDown={down} onPointerMove={move} onPointerUp={up} onWheel={wheel} onDblClick={() => onRange(null)}>
      <canvas ref={canvas} style={{ height: `${AXIS + heights.reduce((sum, one) => sum + one, 0)}px` }} />
      {lanes.map(([kind, name], n) => {
        const at = top;
        top += heights[n];
        return <LaneTitle key={`${kind} ${name}`} {...{ run, kind, name, row, top: at, height: heights[n] }} />;
      })}
      {lines.map((name) => (
        <div class="with-title" key={name}>
          <ChannelLine {...{ run, other, name, range, theme, version }} height={LINE} />
          <div class="line-title">
            <span title={name}>{name}</span>
            <b>{run.shown(name, row)}</b>
            {other?.has(name) && <b class="other">{other.shown(name, row)}</b>}
            <button aria-label={`take ${name} away`} onClick={() => onLines(lines.filter((one) => one !== name))}>
              ✕
            </button>
          </div>
        </div>
      ))}
      {shownRange && <div class="selected" style={{ left: `${scale.x(shownRange[0])}px`, width: `${(shownRange[1] - shownRange[0]) * scale.wide}px` }} />}
      {row >= range[0] && row < range[1] && (
        <div class="cursor" style={{ left: `${x}px` }}>
          <span>{row}</span>
        </div>
      )}
      {(range[0] > 0 || range[1] < run.rows) && !playing && (
        <button class="whole-run" onClick={() => onRange(null)}>
          rows {range[0]}..{range[1] - 1} of {run.rows - 1}: show all
        </button>
      )}
    </div>
  );
}

function LaneTitle({ run, kind, name, row, top, height }) {
  if (kind === 'inputs') {
    return (
      <div class="lane-title inputs" style={{ top: `${top}px`, height: `${height}px`, width: `${GUTTER - 6}px` }}>
        {usedInputs(run).map((one) => (
          <span key={one} class={Math.abs(run.input(one)[row]) >= 0.5 ? 'on' : ''}>
            {one}
          </span>
        ))}
      </div>
    );
  }
  return (
    <div class="lane-title" style={{ top: `${top}px`, height: `${height}px`, width: `${GUTTER - 6}px` }} title={name}>
      <span>{kind === 'event' ? `\u2066⚑ ${name}\u2069` : name}</span>
      {kind === 'state' && <b style={swatch(run.values(name)[row])}>{run.shown(name, row)}</b>}
      {(kind === 'timer' || kind === 'flag') && <b>{run.shown(name, row)}</b>}
    </div>
  );
}
