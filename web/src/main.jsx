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
  const bytes = Uint8Array.from(atob(standing), (letter) => letter.charCodeAt(0));
  const { described, columns } = await unpack(bytes);
  const runs = described.runs.map((one) => new Run(one, columns));
  document.title = `${runs[0].name}: Lark Tally`;
  render(<App runs={runs} />, root);
}

start();
