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
export const forgeryHeader = (): Record<string, string> => ({ 'X-Spindle-Forgery': forgery, ...accountHeader() });

/** The account that this page acts in: it stands in the page's address, and in every request. */
let account = decodeURIComponent(/^\/in\/([^/]+)/.exec(location.pathname)?.[1] ?? '');
export const accountHere = () => account;
const accountHeader = (): Record<string, string> => (account ? { 'X-Spindle-Account': account } : {});

/** Where the pages of an account are. */
export const basenameOf = (of: string) => `/in/${encodeURIComponent(of)}`;

/** Has the page act in an account, when its address names none. */
export function settleAccount(of: string) {
  if (account) return;
  account = of;
  history.replaceState(null, '', basenameOf(of) + location.pathname + location.search + location.hash);
}

/** Has the page act in no account in particular: in the one that the session began with. */
export function unsettleAccount() {
  account = '';
  history.replaceState(null, '', '/');
}

/** Adds the account to an address that the browser opens by itself. */
const inAccount = (address: string) =>
  account ? `${address}${address.includes('?') ? '&' : '?'}in=${encodeURIComponent(account)}` : address;
export const eventsAddress = () => inAccount('/api/v1/events');

/** Called when the desk says that nobody is signed in. */
let signedOut = () => {};
export const onSignedOut = (f: () => void) => {
  signedOut = f;
};

export const api = createClient<paths>({ baseUrl: location.origin });
api.use({
  onRequest({ request }) {
    const headers = request.method === 'GET' ? accountHeader() : forgeryHeader();
    for (const [k, v] of Object.entries(headers)) request.headers.set(k, v);
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
  inAccount(
    `/api/v1/buckets/${encodeURIComponent(bucket)}/body?key=${encodeURIComponent(key)}` +
      (version ? `&version=${encodeURIComponent(version)}` : ''),
  );
