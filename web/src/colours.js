// Told apart with any colour vision (Okabe and Ito, "Color universal design", 2008); the last is what all others share.
export const STATES = ['#0072B2', '#E69F00', '#009E73', '#CC79A7', '#56B4E9', '#D55E00', '#F0E442', '#999999'];
const DARK_ONES = ['#0072B2', '#009E73', '#D55E00'];

const LIGHT = {
  paper: '#fdfcfa', ink: '#22231f', quiet: '#6b6a64', ground: '#dcd8cf', edge: '#b5afa3', rule: '#e4e1d9',
  zone: '#0072B2', line: '#0072B2', other: '#B4530A', breach: '#B00020', mover: '#00795A', cursor: '#22231f',
};
const DARK = {
  paper: '#16181d', ink: '#eceae4', quiet: '#a0a4ad', ground: '#3a3d45', edge: '#5b606c', rule: '#2b2e36',
  zone: '#56B4E9', line: '#56B4E9', other: '#E69F00', breach: '#FF7A7A', mover: '#35c79f', cursor: '#eceae4',
};

const dark = window.matchMedia('(prefers-color-scheme: dark)');

/** What the page is drawn with, by the reader's own setting. */
export const palette = () => (dark.matches ? DARK : LIGHT);

/** Calls back when the reader changes between light and dark. */
export function onPalette(changed) {
  dark.addEventListener('change', changed);
  return () => dark.removeEventListener('change', changed);
}

export const stateColour = (code) => STATES[((code % STATES.length) + STATES.length) % STATES.length];

/** Words that can be read on a state's colour. */
export const onColour = (colour) => (DARK_ONES.includes(colour) ? '#ffffff' : '#22231f');
