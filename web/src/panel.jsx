import { useEffect, useMemo, useRef, useState } from 'preact/hooks';
import { measuresBeside, sameMeasure } from './compare.js';
import { boundsOf, likeDefault, partsOf, stepOf } from './numbers.js';
import { shortNumber } from './run.js';
import { placesIn } from './told.js';

const GLYPH = { kept: '✓', broken: '✕', untested: '○', unfinished: '…' };
const MOST_LISTED = 60;

/** The right-hand side: what broke, what is odd, measures, numbers to turn, values in the row; what was kept, folded. */
export function Panel({ run, before, row, chosen, why, server, live, playing, drawn, send, onAsk, onRow, onTurn, onUndo, onLines }) {
  const failed = run.claims.filter((claim) => !claim.passed);
  const kept = run.claims.filter((claim) => claim.passed);
  return (
    <aside>
      {failed.map((claim) => (
        <Claim key={claim.name} {...{ claim, row, live, playing }} open={chosen === claim.name} why={why[claim.name]} onAsk={onAsk} />
      ))}
      {[run.stopped, ...run.notes].filter(Boolean).map((note) => (
        <pre key={note} class="note">
          {note}
        </pre>
      ))}
      {server.kept && <Kept kept={server.kept} />}
      <Findings findings={run.findings} onRow={onRow} />
      <Measures {...{ run, before }} />
      {live && !playing && !server.listening && <Numbers {...{ run, server, onTurn, onUndo, send }} />}
      {!live && run.numbers.length > 0 && <ReadNumbers numbers={run.numbers} />}
      {kept.length > 0 && (
        <details>
          <summary>
            ✓ {kept.length} {kept.length === 1 ? 'claim passed' : 'claims passed'}
          </summary>
          {kept.map((claim) => (
            <p key={claim.name} class="kept">
              {GLYPH[claim.verdict]} {claim.name}
              <small>{claim.headline}</small>
            </p>
          ))}
        </details>
      )}
      <InThisRow {...{ run, before, row, drawn, onLines }} />
      {server.printed && (
        <details>
          <summary>what the model printed</summary>
          <pre>{server.printed}</pre>
        </details>
      )}
    </aside>
  );
}

function Claim({ claim, row, open, why, onAsk, live, playing }) {
  const at = claim.rows.find((one) => one === row) ?? claim.rows[0];
  return (
    <section class={`claim ${claim.verdict}`}>
      <button class="title" aria-expanded={open} onClick={() => onAsk(claim, at ?? row)}>
        {GLYPH[claim.verdict]} {claim.name}
      </button>
      <p>{claim.headline}</p>
      {claim.rows.length > 0 && (
        <p class="rows">
          {claim.rows.slice(0, 12).map((one) => (
            <button key={one} aria-current={one === row} onClick={() => onAsk(claim, one)}>
              {one}
            </button>
          ))}
          {claim.rows.length > 12 && <span class="quiet">and {claim.rows.length - 12} more</span>}
        </p>
      )}
      {open && (
        <>
          <pre>{storyOf(claim)}</pre>
          {live && !playing && claim.rows.length > 0 && (
            <>
              <h4>why, in row {at}</h4>
              <Places text={why ?? ''} />
              <pre data-why>{why ?? 'asking …'}</pre>
            </>
          )}
        </>
      )}
    </section>
  );
}

/** The lines of the user's code that a text names: its tables may be wider than the panel. */
function Places({ text }) {
  const places = placesIn(text);
  return places.length > 0 && <p class="places">in the code: {places.join(', ')}</p>;
}

/** The story without its name, which stands above it. */
const storyOf = (claim) => claim.story.trimStart().split('\n').slice(1).join('\n');

function Findings({ findings, onRow }) {
  if (!findings.length) return null;
  return (
    <section>
      <h3>Odd, though no claim asked</h3>
      {findings.map((one) => (
        <p key={one.identity} class="finding">
          <b>{one.about}</b>: {one.message}{' '}
          {one.rows.length > 0 && <button onClick={() => onRow(one.rows[0])}>row {one.rows[0]}</button>}
          {one.claim && <code title="the claim that pins it">{one.claim}</code>}
        </p>
      ))}
    </section>
  );
}

function Measures({ run, before }) {
  const measures = measuresBeside(run, before);
  if (!measures.length) return null;
  return (
    <section>
      <h3>Measures</h3>
      <table>
        <tbody>
          {measures.map((one) => {
            const moved = one.before !== null && one.before !== undefined && !sameMeasure(one.before, one.value);
            return (
              <tr key={one.name} title={one.of}>
                <th scope="row">{one.name}</th>
                <td class="was">{moved ? `${shortNumber(one.before)} →` : ''}</td>
                <td class={moved ? 'moved' : ''}>
                  {shortNumber(one.value)} {one.unit}
                </td>
                <td class="quiet">{wantedOf(one)}</td>
              </tr>
            );
          })}
        </tbody>
      </table>
    </section>
  );
}

function wantedOf({ wanted, fits }) {
  if (!wanted) return '';
  const [low, high] = wanted.map(shortNumber);
  return `${fits ? '✓' : '✕'} wanted ${low === high ? low : `${low}..${high}`}`;
}

function Numbers({ run, server, onTurn, onUndo, send }) {
  const [rate, setRate] = useState('');
  if (!run.numbers.length && !run.rate) return null;
  const turned = Object.keys(server.params ?? {}).length > 0;
  return (
    <section>
      <h3>
        Numbers to turn
        {(server.turned ?? []).length > 0 && (
          <button onClick={onUndo} title="u">
            undo
          </button>
        )}
        {turned && <button onClick={() => onTurn({})}>all as they were</button>}
      </h3>
      {run.numbers.map((number) => (
        <NumberField key={number.name} number={number} params={server.params ?? {}} onTurn={onTurn} />
      ))}
      <form
        class="number"
        onSubmit={(event) => {
          event.preventDefault();
          send({ do: 'rate', rate: rate || null });
        }}
      >
        <label>
          frames/s <input size="6" placeholder={run.rateText} value={rate} onInput={(event) => setRate(event.target.value)} />
        </label>
        <button>run at it</button>
      </form>
      {!run.numbers.length && <p class="quiet">This model asks for none: setup.number("leap", 340) makes one.</p>}
    </section>
  );
}

/** A number with its field, its slider, and a mark where its default stands; it is turned at once, and at most so often. */
function NumberField({ number, params, onTurn }) {
  const turned = Object.hasOwn(params, number.name);
  const value = turned ? params[number.name] : number.value;
  const [text, setText] = useState(String(value));
  const [copied, setCopied] = useState(false);
  const later = useRef(0);
  useEffect(() => setText(String(value)), [value]);
  const parsed = partsOf(number.default);
  const set = (given) => {
    setText(String(given));
    clearTimeout(later.current);
    later.current = setTimeout(() => onTurn({ ...params, [number.name]: likeDefault(given, number) }), 60);
  };
  const back = () => {
    const { [number.name]: _, ...rest } = params;
    onTurn(rest);
  };
  if (typeof number.default === 'boolean') {
    return (
      <div class="number">
        <label>
          <input type="checkbox" checked={value === true} onChange={(event) => onTurn({ ...params, [number.name]: event.target.checked })} /> {number.name}
        </label>
      </div>
    );
  }
  const [low, high] = boundsOf(number, parsed);
  const now = partsOf(text)?.amount;
  return (
    <div class={`number ${turned ? 'turned' : ''}`}>
      <label title={number.place}>
        <span>{number.name}</span>
        <input size="8" value={text} aria-label={number.name} onChange={(event) => set(event.target.value)} />
      </label>
      {parsed && (
        <span class="slide">
          <input
            type="range"
            aria-label={`${number.name}, slider`}
            min={low}
            max={high}
            step={stepOf(low, high, number)}
            value={now ?? parsed.amount}
            onInput={(event) => set(`${Number(Number(event.target.value).toPrecision(6))}${parsed.unit}`)}
          />
          <i style={{ left: `${(100 * (parsed.amount - low)) / (high - low || 1)}%` }} title={`default ${number.default}`} />
        </span>
      )}
      <span class="quiet">{String(number.default) === text ? '' : `default ${number.default}`}</span>
      {turned && <button onClick={back}>back</button>}
      <button
        title={number.code}
        onClick={() => {
          copy(number.code);
          setCopied(true);
        }}
      >
        {copied ? 'copied' : 'copy'}
      </button>
    </div>
  );
}

function copy(text) {
  if (navigator.clipboard) navigator.clipboard.writeText(text).catch(() => {});
}

function ReadNumbers({ numbers }) {
  return (
    <section>
      <h3>Numbers</h3>
      <table>
        <tbody>
          {numbers.map((one) => (
            <tr key={one.name}>
              <th scope="row">{one.name}</th>
              <td>{String(one.value)}</td>
              <td class="quiet">{one.value === one.default ? '' : `default ${one.default}`}</td>
            </tr>
          ))}
        </tbody>
      </table>
    </section>
  );
}

/** What was emitted in the row, and the values of all channels, each of which can be drawn as a line. */
function InThisRow({ run, before, row, drawn, onLines }) {
  const [sought, setSought] = useState('');
  const names = useMemo(() => run.columns.map((column) => column.name), [run]);
  const fitting = names.filter((name) => name.includes(sought.trim()));
  const events = run.eventsIn(row);
  return (
    <section>
      <h3>
        In row {row}
        <input type="search" placeholder="find a channel" aria-label="find a channel" value={sought} onInput={(event) => setSought(event.target.value)} />
      </h3>
      {events.length > 0 && (
        <p class="events">
          {events.map((event, n) => (
            <span key={n} title={event.data}>
              ⚑ {event.name}
              {event.source && <small> {event.source}</small>}
            </span>
          ))}
        </p>
      )}
      <table class="values">
        <tbody>
          {fitting.slice(0, MOST_LISTED).map((name) => (
            <tr key={name} class={row > 0 && run.values(name)[row] !== run.values(name)[row - 1] ? 'changed' : ''}>
              <th scope="row">
                <label>
                  <input
                    type="checkbox"
                    checked={drawn.includes(name)}
                    onChange={(event) => onLines(event.target.checked ? [...drawn, name] : drawn.filter((one) => one !== name))}
                  />{' '}
                  {name}
                </label>
              </th>
              <td>{run.shown(name, row)}</td>
              <td class="was">{before?.has(name) && before.shown(name, row) !== run.shown(name, row) ? `was ${before.shown(name, row)}` : ''}</td>
            </tr>
          ))}
        </tbody>
      </table>
      {fitting.length > MOST_LISTED && <p class="quiet">and {fitting.length - MOST_LISTED} more: find one by its name</p>}
    </section>
  );
}

function Kept({ kept }) {
  return (
    <section class="kept-run">
      <h3>Kept{kept.same ? ': it replays identical' : ''}</h3>
      {!kept.same && <p class="bad">✕ {kept.replay}</p>}
      <pre>{kept.line}</pre>
      {kept.files.map((file) => (
        <p key={file} class="quiet">
          {file}
        </p>
      ))}
      {kept.claims.length > 0 && (
        <details>
          <summary>claims that this run keeps, as a start for a test</summary>
          <pre>{kept.claims}</pre>
        </details>
      )}
    </section>
  );
}
