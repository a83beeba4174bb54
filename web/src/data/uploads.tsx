import { useQueryClient } from '@tanstack/react-query';
import { type ReactNode, createContext, useCallback, useContext, useEffect, useMemo, useRef, useState } from 'react';

import { Problem, api, bodyAddress, forgeryHeader, problemOf } from '../api/client';
import { abandon, partedAbove, remembered, sendInParts } from './parts';
import { everythingLive } from './keys';

export type UploadState = 'waiting' | 'sending' | 'done' | 'failed' | 'there' | 'stopped' | 'paused';

/** One file on its way. */
export interface Upload {
  id: number;
  bucket: string;
  key: string;
  file?: File; // of one that a reload interrupted, it must be chosen again
  size: number;
  parted: boolean; // it goes in parts, and can be paused
  state: UploadState;
  sent: number;
  rate: number; // bytes a second
  message?: string;
  replace: boolean;
}

interface Uploads {
  list: Upload[];
  add: (bucket: string, prefix: string, files: { name: string; file: File }[]) => void;
  stop: (id: number) => void;
  again: (id: number, replace: boolean, file?: File) => void;
  abandon: (id: number) => void;
  forget: () => void;
}

const Context = createContext<Uploads | null>(null);

export function useUploads(): Uploads {
  const u = useContext(Context);
  if (!u) throw new Error('useUploads outside of its provider');
  return u;
}

const sideBySide = 3;

/** Keeps uploads going while one walks from page to page. */
export function UploadProvider({ children }: { children: ReactNode }) {
  const queries = useQueryClient();
  const next = useRef(1);
  const [list, setList] = useState<Upload[]>(() =>
    remembered().map((r) => ({
      id: next.current++,
      bucket: r.bucket,
      key: r.key,
      size: r.size,
      parted: true,
      state: 'paused' as const,
      sent: 0,
      rate: 0,
      replace: r.replace ?? false,
      message: 'Interrupted. Choose the file again and it goes on.',
    })),
  );
  const stops = useRef(new Map<number, AbortController>());
  const requests = useRef(new Map<number, XMLHttpRequest>());
  const change = useCallback(
    (id: number, c: Partial<Upload>) => setList((l) => l.map((u) => (u.id === id ? { ...u, ...c } : u))),
    [],
  );

  const send = useCallback(
    async (u: Upload) => {
      change(u.id, { state: 'sending', sent: 0, message: undefined });
      if (!u.replace) {
        const there = await api.GET('/api/v1/buckets/{bucket}/object', {
          params: { path: { bucket: u.bucket }, query: { key: u.key } },
        });
        if (there.response.ok)
          return change(u.id, { state: 'there', message: 'An object with this key is there already.' });
      }
      if (!u.file) return;
      if (u.parted) {
        const stop = new AbortController();
        stops.current.set(u.id, stop);
        try {
          await sendInParts({
            bucket: u.bucket,
            key: u.key,
            file: u.file,
            ifAbsent: !u.replace,
            stop: stop.signal,
            progress: (sent, rate) => change(u.id, { sent, rate }),
          });
          change(u.id, { state: 'done', sent: u.size });
          void queries.invalidateQueries({ queryKey: everythingLive });
        } catch (e) {
          if (stop.signal.aborted) change(u.id, { state: 'paused', message: 'Paused; what was sent is kept.' });
          else if (e instanceof Problem && e.code === 'another-file')
            change(u.id, { state: 'paused', file: undefined, message: e.message });
          else if (e instanceof Problem && e.code === 'exists') change(u.id, { state: 'there', message: e.message });
          else change(u.id, { state: 'failed', message: (e as Error).message });
        }
        return;
      }
      const x = new XMLHttpRequest();
      requests.current.set(u.id, x);
      const started = performance.now();
      x.upload.onprogress = (e) =>
        change(u.id, { sent: e.loaded, rate: e.loaded / Math.max(0.2, (performance.now() - started) / 1000) });
      x.onloadend = () => {
        requests.current.delete(u.id);
        if (x.status >= 200 && x.status < 300) {
          change(u.id, { state: 'done', sent: u.size });
          void queries.invalidateQueries({ queryKey: everythingLive });
          return;
        }
        let body: unknown;
        try {
          body = JSON.parse(x.responseText);
        } catch {
          body = { detail: 'The connection was lost before the file had arrived.' };
        }
        const p = problemOf(x.status, body);
        setList((l) =>
          l.map((v) =>
            v.id === u.id && v.state === 'sending'
              ? { ...v, state: p.code === 'exists' ? 'there' : 'failed', message: p.message }
              : v,
          ),
        );
      };
      x.open('PUT', bodyAddress(u.bucket, u.key) + (u.replace ? '' : '&ifAbsent=true'));
      for (const [k, v] of Object.entries(forgeryHeader())) x.setRequestHeader(k, v);
      x.setRequestHeader('Content-Type', u.file.type || 'application/octet-stream');
      x.send(u.file);
    },
    [change, queries],
  );

  useEffect(() => {
    const busy = list.filter((u) => u.state === 'sending').length;
    list
      .filter((u) => u.state === 'waiting')
      .slice(0, Math.max(0, sideBySide - busy))
      .forEach((u) => void send(u));
  }, [list, send]);

  const sending = list.some((u) => u.state === 'sending' || u.state === 'waiting');
  useEffect(() => {
    if (!sending) return;
    const warn = (e: BeforeUnloadEvent) => e.preventDefault();
    addEventListener('beforeunload', warn);
    return () => removeEventListener('beforeunload', warn);
  }, [sending]);

  const value = useMemo<Uploads>(
    () => ({
      list,
      add: (bucket, prefix, files) =>
        setList((l) => [
          ...l,
          ...files.map(({ name, file }) => ({
            id: next.current++,
            bucket,
            key: prefix + name,
            file,
            size: file.size,
            parted: file.size > partedAbove,
            state: 'waiting' as const,
            sent: 0,
            rate: 0,
            replace: false,
          })),
        ]),
      stop: (id) => {
        const parts = stops.current.get(id);
        if (parts) return parts.abort();
        change(id, { state: 'stopped', message: 'Stopped; nothing of it was kept.' });
        requests.current.get(id)?.abort();
      },
      again: (id, replace, file) =>
        change(id, { state: 'waiting', replace, message: undefined, ...(file ? { file } : {}) }),
      abandon: (id) => {
        stops.current.get(id)?.abort();
        const u = list.find((x) => x.id === id);
        const r = remembered().find((x) => x.bucket === u?.bucket && x.key === u.key);
        setList((l) => l.filter((x) => x.id !== id));
        if (r) void abandon(r).finally(() => queries.invalidateQueries({ queryKey: everythingLive }));
      },
      forget: () =>
        setList((l) => l.filter((u) => u.state === 'sending' || u.state === 'waiting' || u.state === 'paused')),
    }),
    [list, change, queries],
  );
  return <Context value={value}>{children}</Context>;
}
