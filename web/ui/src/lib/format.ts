/** How figures, times and states are written. */

/** count writes a whole number with a blank between thousands; .num narrows it. */
export function count(n: number | null | undefined): string {
  if (n === null || n === undefined) return '–';
  return String(Math.round(n)).replace(/\B(?=(\d{3})+(?!\d))/g, ' ');
}

/** change writes how rows out differ from rows in: ±0, −37, or a share. */
export function change(into: number, out: number): string {
  const d = out - into;
  if (d === 0) return '±0';
  const sign = d < 0 ? '−' : '+';
  if (into > 0 && Math.abs(d) >= 10_000) return `${sign}${((Math.abs(d) / into) * 100).toFixed(1)} %`;
  return sign + count(Math.abs(d));
}

/** duration writes seconds: 4.2 s, 1 m 08 s, 2 h 05 m. */
export function duration(seconds: number): string {
  if (seconds < 10) return `${seconds.toFixed(2)} s`;
  if (seconds < 60) return `${seconds.toFixed(1)} s`;
  const s = Math.round(seconds);
  const two = (n: number) => String(n).padStart(2, '0');
  if (s < 3600) return `${Math.floor(s / 60)} m ${two(s % 60)} s`;
  return `${Math.floor(s / 3600)} h ${two(Math.floor((s % 3600) / 60))} m`;
}

/** ago writes a time relative to now: 6 min ago, in 3 h. */
export function ago(time: string | Date, now: Date = new Date()): string {
  const seconds = (now.getTime() - new Date(time).getTime()) / 1000;
  const size = Math.abs(seconds);
  let words: string;
  if (size < 45) words = seconds < 0 ? 'in a moment' : 'just now';
  else if (size < 90 * 60) words = `${Math.max(1, Math.round(size / 60))} min`;
  else if (size < 36 * 3600) words = `${Math.round(size / 3600)} h`;
  else words = `${Math.round(size / 86400)} days`;
  if (size < 45) return words;
  return seconds < 0 ? `in ${words}` : `${words} ago`;
}

/** exact writes a time in full, in a zone or in the browser's. */
export function exact(time: string | Date, zone?: string): string {
  return new Intl.DateTimeFormat('en-GB', {
    weekday: 'short',
    day: 'numeric',
    month: 'short',
    year: 'numeric',
    hour: '2-digit',
    minute: '2-digit',
    second: '2-digit',
    timeZone: zone,
  }).format(new Date(time));
}

/** clock writes the time of a day. */
export function clock(time: string | Date, zone?: string): string {
  return new Intl.DateTimeFormat('en-GB', { hour: '2-digit', minute: '2-digit', timeZone: zone }).format(
    new Date(time),
  );
}

/** bytes writes a size: 912 B, 4.2 MB. */
export function bytes(n: number): string {
  if (n < 1000) return `${n} B`;
  const units = ['kB', 'MB', 'GB', 'TB'];
  let i = -1;
  do {
    n /= 1000;
    i++;
  } while (n >= 1000 && i < units.length - 1);
  return `${n.toFixed(n < 10 ? 1 : 0)} ${units[i]}`;
}

/** stateOf words a run's state, and says which ink it is written in. */
export function stateOf(run: { state: string; rows_set_aside: number; phase?: string }): { word: string; ink: string } {
  if (run.state === 'done' && run.rows_set_aside > 0)
    return { word: `done with ${count(run.rows_set_aside)} set aside`, ink: 'aside' };
  if (run.state === 'failed' || run.state === 'stopped') return { word: run.state, ink: 'failed' };
  if (run.state === 'running') return { word: run.phase ? `running, ${run.phase}` : 'running', ink: 'running' };
  return { word: run.state, ink: run.state };
}

/** spans cuts a sentence into words and data, which stands in backticks. */
export function spans(sentence: string): { text: string; data: boolean }[] {
  return sentence
    .split('`')
    .map((text, i) => ({ text, data: i % 2 === 1 }))
    .filter((s) => s.text !== '');
}
