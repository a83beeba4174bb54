import { Problem, forgeryHeader, problemOf } from './client';

/** Makes a call that answers in JSON lines, and gives each as it comes. */
export async function postLines<T>(path: string, body: unknown, onLine: (line: T) => void, signal?: AbortSignal) {
  let r: Response;
  try {
    r = await fetch(path, {
      method: 'POST',
      headers: { 'Content-Type': 'application/json', ...forgeryHeader() },
      body: JSON.stringify(body),
      signal,
    });
  } catch {
    throw new Problem(0, 'The service does not answer.', 'unreachable');
  }
  if (!r.ok || !r.body) throw problemOf(r.status, await r.json().catch(() => null));
  const reader = r.body.pipeThrough(new TextDecoderStream()).getReader();
  let rest = '';
  for (;;) {
    const { value, done } = await reader.read();
    if (done) break;
    const lines = (rest + value).split('\n');
    rest = lines.pop() ?? '';
    for (const l of lines) if (l) onLine(JSON.parse(l) as T);
  }
}
