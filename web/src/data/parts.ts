import { Problem, accountHere, api, ask, forgeryHeader, problemOf } from '../api/client';
import { crc64 } from './crc64';

/** Files larger than this go in parts. */
export const partedAbove = 16 * 2 ** 20;
const sideBySide = 3;
const tries = 5;

/** What is remembered of an upload in parts, so that it goes on after a reload. */
export interface Remembered {
  upload: string;
  bucket: string;
  key: string;
  size: number;
  modified: number; // the file's, in ms
  name: string; // the file's
  partSize: number;
  replace: boolean; // it was agreed to that it replaces what is there
  account: string;
}

const prefix = 'spindle-upload ';
const nameOf = (bucket: string, key: string) => `${prefix}${bucket}/${key}`;

export function remembered(): Remembered[] {
  const out: Remembered[] = [];
  for (let i = 0; i < localStorage.length; i++) {
    const name = localStorage.key(i);
    if (!name?.startsWith(prefix)) continue;
    try {
      out.push(JSON.parse(localStorage.getItem(name)!) as Remembered);
    } catch {
      localStorage.removeItem(name);
    }
  }
  return out.filter((r) => !r.account || r.account === accountHere());
}

export const forget = (bucket: string, key: string) => localStorage.removeItem(nameOf(bucket, key));

/** The size of a file's parts: 8 MiB, or what 10,000 parts need. */
const partSizeOf = (size: number) => Math.max(8 * 2 ** 20, Math.ceil(size / 10_000 / 2 ** 20) * 2 ** 20);

interface Job {
  bucket: string;
  key: string;
  file: File;
  ifAbsent: boolean;
  stop: AbortSignal;
  progress: (sent: number, rate: number) => void;
}

/**
 * Makes sure that a file is the one of which parts are there: by its name and size, and by the digests of parts; of all
 * of them when its time is another one. Throws a Problem with the code another-file.
 */
async function isSame(r: Remembered, file: File, parts: { number: number; size: number; crc64: string }[]) {
  const another = (why: string) =>
    new Problem(
      0,
      `The interrupted upload is of another file: ${why}. Choose ${r.name ?? 'that file'} of ${r.size} bytes, or abandon the upload.`,
      'another-file',
    );
  if (r.name && r.name !== file.name) throw another(`${r.name}, not ${file.name}`);
  if (r.size !== file.size) throw another(`it has ${r.size} bytes, not ${file.size}`);
  const look = r.modified === file.lastModified && r.name ? [...new Set([parts[0], parts.at(-1)])] : parts;
  for (const p of look) {
    if (!p) continue;
    const from = (p.number - 1) * r.partSize;
    const bytes = new Uint8Array(await file.slice(from, from + p.size).arrayBuffer());
    if (crc64(bytes) !== p.crc64) throw another(`part ${p.number} has other bytes`);
  }
}

/** Sends a file in parts, side by side; goes on with what an earlier try left. Throws a Problem, or an AbortError when it was stopped. */
export async function sendInParts(j: Job): Promise<void> {
  const { bucket, key, file } = j;
  const stored = localStorage.getItem(nameOf(bucket, key));
  let r = stored ? (JSON.parse(stored) as Remembered) : null;
  const there = new Map<number, number>();
  if (r) {
    const found = await api.GET('/api/v1/buckets/{bucket}/uploads/{id}', {
      params: { path: { bucket, id: r.upload }, query: { key } },
    });
    if (!found.response.ok && found.response.status !== 404) throw problemOf(found.response.status, found.error);
    if (found.data) {
      await isSame(r, file, found.data.list);
      for (const p of found.data.list) there.set(p.number, p.size);
    } else r = null; // it was completed or abandoned elsewhere
  }
  if (!r) {
    const u = await ask(
      api.POST('/api/v1/buckets/{bucket}/uploads', {
        params: { path: { bucket } },
        body: { key, contentType: file.type || 'application/octet-stream' },
      }),
    );
    r = {
      upload: u.id,
      bucket,
      key,
      size: file.size,
      modified: file.lastModified,
      name: file.name,
      partSize: partSizeOf(file.size),
      replace: !j.ifAbsent,
      account: accountHere(),
    };
    localStorage.setItem(nameOf(bucket, key), JSON.stringify(r));
  }
  const { partSize, upload } = r;
  const count = Math.ceil(file.size / partSize);
  const sizeOf = (n: number) => Math.min(partSize, file.size - (n - 1) * partSize);
  const sent = new Map<number, number>();
  let before = 0;
  for (let n = 1; n <= count; n++)
    if (there.get(n) === sizeOf(n)) {
      sent.set(n, sizeOf(n));
      before += sizeOf(n);
    }
  const started = performance.now();
  const tell = () => {
    const all = [...sent.values()].reduce((a, b) => a + b, 0);
    j.progress(all, (all - before) / Math.max(0.2, (performance.now() - started) / 1000));
  };
  tell();
  let next = 1;
  const worker = async () => {
    for (let n = next++; n <= count; n = next++) {
      if (there.get(n) === sizeOf(n)) continue;
      for (let attempt = 1; ; attempt++) {
        try {
          await sendPart(
            bucket,
            key,
            upload,
            n,
            file.slice((n - 1) * partSize, (n - 1) * partSize + sizeOf(n)),
            j.stop,
            (bytes) => {
              sent.set(n, bytes);
              tell();
            },
          );
          break;
        } catch (e) {
          sent.set(n, 0);
          const status = (e as { status?: number }).status ?? 0;
          if (j.stop.aborted || attempt === tries || (status !== 0 && status !== 408 && status < 500)) throw e;
          await new Promise((ok) => setTimeout(ok, 500 * 2 ** attempt));
        }
      }
    }
  };
  await Promise.all(Array.from({ length: sideBySide }, worker));
  await ask(
    api.POST('/api/v1/buckets/{bucket}/uploads/{id}/complete', {
      params: { path: { bucket, id: upload }, query: { key } },
      body: { size: file.size, ifAbsent: j.ifAbsent },
    }),
  );
  forget(bucket, key);
}

function sendPart(
  bucket: string,
  key: string,
  upload: string,
  n: number,
  bytes: Blob,
  stop: AbortSignal,
  progress: (bytes: number) => void,
): Promise<void> {
  return new Promise((ok, no) => {
    if (stop.aborted) return no(new DOMException('stopped', 'AbortError'));
    const x = new XMLHttpRequest();
    const halt = () => {
      x.abort();
      no(new DOMException('stopped', 'AbortError'));
    };
    stop.addEventListener('abort', halt);
    x.upload.onprogress = (e) => progress(e.loaded);
    x.onloadend = () => {
      stop.removeEventListener('abort', halt);
      if (x.status >= 200 && x.status < 300) {
        progress(bytes.size);
        return ok();
      }
      if (stop.aborted) return no(new DOMException('stopped', 'AbortError'));
      let body: unknown;
      try {
        body = JSON.parse(x.responseText);
      } catch {
        body = { detail: 'The connection was lost. What was sent is kept; try again to go on.' };
      }
      no(problemOf(x.status, body));
    };
    x.open(
      'PUT',
      `/api/v1/buckets/${encodeURIComponent(bucket)}/uploads/${encodeURIComponent(upload)}/parts/${n}?key=${encodeURIComponent(key)}`,
    );
    for (const [k, v] of Object.entries(forgeryHeader())) x.setRequestHeader(k, v);
    x.send(bytes);
  });
}

/** Ends an upload; what was sent of it goes. */
export async function abandon(r: { bucket: string; key: string; upload: string }): Promise<void> {
  forget(r.bucket, r.key);
  await ask(
    api.POST('/api/v1/uploads/abandon', { body: { uploads: [{ bucket: r.bucket, key: r.key, id: r.upload }] } }),
  );
}
