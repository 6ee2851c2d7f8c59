// Builds the page into one file, with script and style inside: src/larktally/views/page/page.html.
// `node build.mjs OUT` writes it elsewhere, to compare.
import { createHash } from 'node:crypto';
import { readFileSync, writeFileSync } from 'node:fs';
import { dirname, join } from 'node:path';
import { fileURLToPath } from 'node:url';
import { build } from 'esbuild';

const here = dirname(fileURLToPath(import.meta.url));
const out = process.argv[2] ?? join(here, '../src/larktally/views/page/page.html');

const bundled = async (entry, loader) => {
  const made = await build({
    entryPoints: [join(here, 'src', entry)],
    bundle: true,
    minify: true,
    write: false,
    format: 'iife',
    target: ['chrome109', 'firefox115'],
    jsx: 'automatic',
    jsxImportSource: 'preact',
    legalComments: 'inline',
    loader,
  });
  return made.outputFiles[0].text.trim();
};
const hash = (text) => `'sha256-${createHash('sha256').update(text).digest('base64')}'`;

// A script that held its own end tag would end there.
const script = (await bundled('main.jsx', {})).replaceAll('</script', '<\\/script');
const style = await bundled('style.css', { '.css': 'css' });
const policy = [
  "default-src 'none'",
  `script-src ${hash(script)}`,
  `style-src ${hash(style)}`,
  'img-src data:',
  "connect-src 'self'",
  "base-uri 'none'",
  "form-action 'none'",
].join('; ');
const page = readFileSync(join(here, 'src/page.html'), 'utf8')
  .replace('{{policy}}', () => policy)
  .replace('{{style}}', () => style)
  .replace('{{script}}', () => script);
writeFileSync(out, page);
console.log(`${out}: ${page.length} characters`);
