import type { Cell } from './api';

// How numbers are written, in the console as in the terminal: see docs/look.md.

/** A number with fixed decimals, groups of three apart by a narrow space. */
export function grouped(x: number, decimals: number): string {
  const [whole = '0', fraction] = Math.abs(x).toFixed(decimals).split('.');
  const digits = whole.replace(/\B(?=(\d{3})+$)/g, '\u202f');
  const text = fraction === undefined ? digits : `${digits}.${fraction}`;
  return x < 0 && /[1-9]/.test(text) ? `−${text}` : text;
}

const magnitudes: [number, string][] = [
  [1e12, 'tn'],
  [1e9, 'bn'],
  [1e6, 'm'],
];

/** A value for people. A gap is a dash; its reason belongs beside it. */
export function readable(cell: Pick<Cell, 'v' | 'unit'>): string {
  const { v, unit } = cell;
  if (v === null || v === undefined) return '–';
  if (typeof v === 'boolean') return v ? 'yes' : 'no';
  if (unit === 'line') {
    const numbers = String(v).split(' ');
    return `from ${numbers[0]} to ${numbers.at(-1)}`;
  }
  if (typeof v !== 'number') return unit === 'time' ? moment(String(v)) : String(v);
  if (unit === 'year') return String(v);
  if (unit === 'percent') return grouped(v * 100, 2);
  for (const [size, suffix] of magnitudes) {
    if (Math.abs(v) >= size) return `${grouped(v / size, 2)} ${suffix}`;
  }
  if (['count', 'shares', 'days', 'minutes'].includes(unit) && (Number.isInteger(v) || Math.abs(v) >= 1000)) {
    return grouped(v, 0);
  }
  if (Math.abs(v) >= 1000) return grouped(v, 2);
  return grouped(v, 4)
    .replace(/(\.\d\d\d?)0+$/, '$1')
    .replace(/(\.\d\d)0$/, '$1');
}

/** An instant in the reader's own zone, without a date when it is today. */
export function moment(text: string | null | undefined): string {
  if (!text) return '';
  const t = new Date(text);
  const clock = t.toLocaleTimeString('en-GB', { hour: '2-digit', minute: '2-digit' });
  const day = `${t.getFullYear()}-${String(t.getMonth() + 1).padStart(2, '0')}-${String(t.getDate()).padStart(2, '0')}`;
  return `${day} ${clock}`;
}

export function isCurrency(unit: string): boolean {
  return /^[A-Z]{3}$/.test(unit);
}

/** What a column's header says of its unit. */
export function unitLabel(unit: string, currencies: string[]): string {
  if (unit === 'price' || unit === 'money') return currencies.length === 1 ? (currencies[0] ?? '') : 'own currency';
  return { percent: '%', shares: 'shares', count: 'count', minutes: 'min', time: 'local time' }[unit] ?? '';
}

export const stateNames = ['fresh', 'stale', 'pending', 'missing'] as const;
export type State = (typeof stateNames)[number];

export function words(reason: string): string {
  return reason.replaceAll('_', ' ');
}
