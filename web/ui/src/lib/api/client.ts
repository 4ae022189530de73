import createClient from 'openapi-fetch';

import type { components, paths } from './schema';

export const client = createClient<paths>({ baseUrl: '/' });

type Schemas = components['schemas'];
export type Person = Schemas['Person'];
export type Connection = Schemas['ConnectionView'];
export type ConnectionKind = Schemas['KindView'];
export type CheckLine = Schemas['CheckLine'];
export type Entry = Schemas['Entry'];
export type Wire = Schemas['Wire'];
export type Column = Schemas['Column'];
export type Pipeline = Schemas['PipelineView'];
export type PipelineDetail = Schemas['PipelineDetail'];
export type CheckedSheet = Schemas['CheckedSheet'];
export type CheckedStep = Schemas['CheckedStep'];
export type Problem = Schemas['Problem'];
export type StepKind = Schemas['StepKindView'];
export type Tried = Schemas['Tried'];
export type Rows = Schemas['Rows'];
export type Difference = Schemas['Difference'];
export type Passed = Schemas['Passed'];
export type Account = Schemas['Account'];
export type LoadPreview = Schemas['LoadPreview'];
export type Present = Schemas['Present'];
export type Outcome = Schemas['Outcome'];
export type Run = Schemas['Run'];
export type RunDetail = Schemas['RunDetail'];
export type SetAside = Schemas['SetAside'];
export type Profile = Schemas['Profile'];
export type SavedLayout = Schemas['SavedLayout'];
export type LayoutField = Omit<Schemas['Field'], 'type'> & { type: string };
export type Layout = Omit<Schemas['Layout'], 'records'> & {
  records: { name?: string; code?: string; fields: LayoutField[] }[];
};
export type LayoutRecords = Schemas['Records'];
export type Position = Schemas['Position'];
export type Reason = Schemas['Reason'];
export type Schedule = Schemas['Schedule'];

/** Refusal is an answer of the server that says no, as a sentence. */
export class Refusal extends Error {
  constructor(
    message: string,
    readonly status: number,
  ) {
    super(message);
  }
}

/** take gives the data of an answer, or throws its sentence. */
export async function take<T>(answer: Promise<{ data?: T; error?: unknown; response: Response }>): Promise<T> {
  let got;
  try {
    got = await answer;
  } catch (e) {
    if (e instanceof DOMException && e.name === 'AbortError') throw e;
    throw new Refusal('Welkin does not answer. Is it running? What you typed is kept in this page.', 0);
  }
  if (got.error !== undefined || !got.response.ok) {
    const error = got.error as { detail?: string; errors?: { message?: string; location?: string }[] } | undefined;
    const more = error?.errors
      ?.map((e) => [e.location?.replace(/^body\./, ''), e.message].filter(Boolean).join(': '))
      .join('; ');
    if (got.response.status === 401 && error?.detail === 'sign in first') signedOut();
    throw new Refusal(more || error?.detail || `the server answered ${got.response.status}`, got.response.status);
  }
  return got.data as T;
}

let signedOut = () => {};

/** onSignedOut is told when the session has ended. */
export function onSignedOut(tell: () => void): void {
  signedOut = tell;
}
