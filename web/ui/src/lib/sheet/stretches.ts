import { inputsOf, stepOf, type StepDoc, type Stretch } from './editor.svelte';

/** Line is a line of the ledger: a step, or a stretch of steps shown as one. */
export interface Line {
  id: string; // of the step; of a stretch its name behind a mark that no step's name begins with
  steps: StepDoc[];
  stretch?: Stretch;
  folded: boolean;
  /** Heads a stretch that is shown in full. */
  begins?: Stretch;
  inputs: string[]; // the lines that rows come from
}

const mark = '▸';

/** linesOf gives the ledger's lines, with the stretches that are folded as one line each. */
export function linesOf(steps: StepDoc[], stretches: Stretch[], folded: string[]): Line[] {
  const at = new Map(steps.map((s, i) => [s.id, i]));
  const spans = stretches
    .map((s) => ({ s, first: at.get(s.first) ?? -1, last: at.get(s.last) ?? -1 }))
    .filter((x) => x.first >= 0 && x.last >= x.first);
  const lines: Line[] = [];
  const lineOf = new Map<string, string>();
  for (let i = 0; i < steps.length;) {
    const span = spans.find((x) => x.first === i);
    if (span && folded.includes(span.s.name)) {
      const inside = steps.slice(i, span.last + 1);
      const id = mark + span.s.name;
      for (const s of inside) lineOf.set(s.id, id);
      lines.push({ id, steps: inside, stretch: span.s, folded: true, inputs: [] });
      i = span.last + 1;
      continue;
    }
    const inside = spans.find((x) => x.first <= i && i <= x.last);
    lineOf.set(steps[i]!.id, steps[i]!.id);
    lines.push({
      id: steps[i]!.id,
      steps: [steps[i]!],
      stretch: inside?.s,
      folded: false,
      begins: span?.s,
      inputs: [],
    });
    i++;
  }
  for (const line of lines) {
    const from = line.steps.flatMap((s) => inputsOf(s).map((place) => lineOf.get(stepOf(place)) ?? stepOf(place)));
    line.inputs = [...new Set(from)].filter((id) => id !== line.id);
  }
  return lines;
}

/** freeStretch tells up to which step a stretch from a step may go: not into another one. */
export function reachOf(steps: StepDoc[], stretches: Stretch[], from: string): StepDoc[] {
  const at = (id: string) => steps.findIndex((s) => s.id === id);
  const first = at(from);
  if (first < 0 || stretches.some((s) => at(s.first) <= first && first <= at(s.last))) return [];
  const next = Math.min(steps.length, ...stretches.map((s) => at(s.first)).filter((n) => n > first));
  return steps.slice(first, next);
}

/** withoutStep keeps stretches true when a step is taken out: they end one earlier, or are gone. */
export function withoutStep(stretches: Stretch[], steps: StepDoc[], id: string): Stretch[] {
  const at = (x: string) => steps.findIndex((s) => s.id === x);
  return stretches.flatMap((s) => {
    if (s.first === id && s.last === id) return [];
    if (s.first === id) return [{ ...s, first: steps[at(id) + 1]!.id }];
    if (s.last === id) return [{ ...s, last: steps[at(id) - 1]!.id }];
    return [s];
  });
}
