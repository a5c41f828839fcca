import createClient from 'openapi-fetch';
import { access } from './access.svelte';
import type { components, paths } from './schema';

export type Schemas = components['schemas'];
export type Table = Schemas['Table'];
export type TableRow = Schemas['TableRow'];
export type Cell = Schemas['Cell'];
export type Column = Schemas['Column'];
export type Watchlist = Schemas['Watchlist'];
export type Listing = Schemas['Listing'];
export type Field = Schemas['Field'];
export type View = Schemas['View'];
export type Explanation = Schemas['Explanation'];
export type Health = Schemas['Health'];
export type Refresh = Schemas['Refresh'];
export type Plan = Schemas['Plan'];
export type Source = Schemas['Source'];
export type Request = Schemas['Request'];
export type Preference = Schemas['Preference'];
export type SourceCheck = Schemas['SourceCheck'];
export type Schedule = Schemas['Schedule'];
export type Imported = Schemas['Imported'];
export type Status = Schemas['Status'];
export type Problem = Schemas['Problem'];

export const api = createClient<paths>({ baseUrl: location.origin });

api.use({
  onRequest({ request }) {
    if (access.token) request.headers.set('Authorization', `Bearer ${access.token}`);
    return request;
  },
  onResponse({ response }) {
    if (response.status === 401) access.needed = true;
    return response;
  },
});

/** An error that the service explained, or that it could not be reached. */
export class Trouble extends Error {
  constructor(
    message: string,
    readonly hint = '',
    readonly field = '',
    readonly offline = false,
  ) {
    super(message);
  }
}

/** Unwraps an answer, or throws the trouble in the service's own words. */
export async function ask<T>(call: Promise<{ data?: T; error?: unknown; response: Response }>): Promise<T> {
  let answer;
  try {
    answer = await call;
  } catch {
    throw new Trouble(
      'The service does not answer.',
      'What you see is what it said last. It is asked again by itself.',
      '',
      true,
    );
  }
  if (answer.error !== undefined || !answer.response.ok) {
    const p = answer.error as Partial<Problem> | undefined;
    const details = (p?.errors ?? []).map((e) => `${e.location ?? ''} ${e.message}`.trim());
    throw new Trouble([p?.detail ?? answer.response.statusText, ...details].join(' · '), p?.hint, p?.field);
  }
  return answer.data as T;
}

/** Sends a file as it is; the generated client knows only JSON. */
export async function upload<T>(path: string, file: Blob, type: string): Promise<T> {
  const headers: Record<string, string> = { 'Content-Type': type };
  if (access.token) headers.Authorization = `Bearer ${access.token}`;
  return ask<T>(
    fetch(path, { method: 'POST', headers, body: file }).then(async (response) => {
      const body = await response.json();
      return response.ok ? { data: body as T, response } : { error: body, response };
    }),
  );
}
