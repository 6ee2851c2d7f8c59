import { render } from 'preact';
import { App } from './app.jsx';
import { Run } from './run.js';
import { unpack } from './unpack.js';

const standing = document.getElementById('recording').textContent.trim();

async function start() {
  const root = document.getElementById('page');
  if (!standing) {
    render(<App live />, root);
    return;
  }
  const letters = atob(standing);
  const bytes = new Uint8Array(letters.length);
  for (let n = 0; n < bytes.length; n++) bytes[n] = letters.charCodeAt(n);
  const { described, columns } = await unpack(bytes);
  const runs = described.runs.map((one) => new Run(one, columns));
  document.title = `${runs[0].name}: Lark Tally`;
  render(<App runs={runs} />, root);
}

start();
