import createClient from 'openapi-fetch';

import type { components, paths } from './schema';

export type Schemas = components['schemas'];

/** An error as the desk gives it (RFC 9457, with our fields). */
export class Problem extends Error {
  constructor(
    readonly status: number,
    detail: string,
    readonly code: string,
    readonly field?: string,
    readonly remedy?: string,
    /** An account of who asks, acting in which the call may be allowed. */
    readonly elsewhere?: string,
    /** Where in the text at fault, in bytes. */
    readonly position?: number,
    /** The id of the request, by which the service's log names it. */
    readonly request?: string,
    /** All that is wrong, when it is more than one thing. */
    readonly complaints: Schemas['Complaint'][] = [],
  ) {
    super(detail);
  }
}

/** The session's token against forged requests; every change carries it. */
let forgery = '';
export const setForgery = (token: string) => {
  forgery = token;
};
export const forgeryHeader = (): Record<string, string> => ({ 'X-Spindle-Forgery': forgery });

/** Called when the desk says that nobody is signed in. */
let signedOut = () => {};
export const onSignedOut = (f: () => void) => {
  signedOut = f;
};

export const api = createClient<paths>({ baseUrl: location.origin });
api.use({
  onRequest({ request }) {
    if (request.method !== 'GET') for (const [k, v] of Object.entries(forgeryHeader())) request.headers.set(k, v);
    return request;
  },
});

interface Answer<T> {
  data?: T;
  error?: unknown;
  response: Response;
}

export function problemOf(status: number, body: unknown): Problem {
  const p = (body ?? {}) as Partial<Schemas['Problem']>;
  if (p.code === 'signed-out' || p.code === 'session-ended') signedOut();
  return new Problem(
    status,
    p.detail ?? `The service answered with status ${status}.`,
    p.code ?? 'unknown',
    p.field,
    p.retryAfter ? `${p.remedy ?? 'try again'}; it is worth another try in ${p.retryAfter} s` : p.remedy,
    p.switch,
    p.position,
    status >= 500 ? p.request : undefined,
    p.complaints,
  );
}

/** Gives the answer's data, or throws a Problem. */
export async function ask<T>(call: Promise<Answer<T>>): Promise<T> {
  let a: Answer<T>;
  try {
    a = await call;
  } catch {
    throw new Problem(
      0,
      'The service does not answer.',
      'unreachable',
      undefined,
      'It may be starting or stopped; this page tries again.',
    );
  }
  if (!a.response.ok) throw problemOf(a.response.status, a.error);
  return a.data as T;
}

/** The address of the bytes of an object, or of a version of it, on the desk. */
export const bodyAddress = (bucket: string, key: string, version = '') =>
  `/api/v1/buckets/${encodeURIComponent(bucket)}/body?key=${encodeURIComponent(key)}` +
  (version ? `&version=${encodeURIComponent(version)}` : '');
