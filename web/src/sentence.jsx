import { flipped } from './compare.js';
import { sentenceOf } from './told.js';

/** The line at the top: which file and scenario, what it came to, and whether something is on its way. */
export function Sentence({ run, before, server, live, playing, send, help, onHelp, onChoose }) {
  const bad = run && (run.stopped || run.notes.length || run.claims.some((claim) => !claim.passed));
  const other = run && before ? flipped(run, before) : [];
  return (
    <header>
      {live && <span class="file">{server.file}</span>}
      {live && server.scenarios.length > 1 ? (
        <select aria-label="scenario" value={server.chosen} disabled={Boolean(playing)} onChange={(event) => onChoose(event.target.value)}>
          {server.scenarios.map((name) => (
            <option key={name} value={name}>
              {markOf(server.verdicts[name])}
              {name}
            </option>
          ))}
        </select>
      ) : (
        <strong>{run?.name ?? server.chosen}</strong>
      )}
      <span class={`sentence ${bad && !playing ? 'bad' : ''}`} data-sentence>
        {playing ? 'playing: the keys below are the game’s; Esc leaves' : run && `${bad ? '✕' : run.claims.length ? '✓' : '·'} ${sentenceOf(run, before)}`}
      </span>
      {other.length > 0 && (
        <span class="flip" title={other.map((claim) => `${claim.name}: now ${claim.verdict}`).join('\n')}>
          now {other[0].verdict}: {other[0].name}
          {other.length > 1 && `, and ${other.length - 1} more`}
        </span>
      )}
      <span class="right">
        {server.running && (
          <>
            <span class="busy">running …</span>
            <button onClick={() => send({ do: 'stop' })}>stop it</button>
          </>
        )}
        {live && !server.connected && <span class="busy">the command that serves this page is gone; what stands here stays</span>}
        {run?.rate && <span class="quiet">{run.rateText} frames/s</span>}
        <button aria-expanded={help} onClick={onHelp} title="keys">
          keys ?
        </button>
      </span>
    </header>
  );
}

const markOf = (verdict) => (!verdict ? '' : verdict.passed === false ? '✕ ' : verdict.passed === null ? '· ' : '✓ ');
