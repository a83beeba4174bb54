interface Found {
  name: string;
  file: File;
}

/** The files of a drop, folders with all beneath them. */
export async function filesOf(data: DataTransfer): Promise<Found[]> {
  const entries = [...data.items].map((i) => i.webkitGetAsEntry()).filter((e) => e !== null);
  if (!entries.length) return [...data.files].map((file) => ({ name: file.name, file }));
  const out: Found[] = [];
  for (const e of entries) await walk(e, '', out);
  return out;
}

async function walk(entry: FileSystemEntry, path: string, out: Found[]): Promise<void> {
  if (entry.isFile) {
    const file = await new Promise<File>((ok, no) => (entry as FileSystemFileEntry).file(ok, no));
    out.push({ name: path + entry.name, file });
    return;
  }
  const reader = (entry as FileSystemDirectoryEntry).createReader();
  for (;;) {
    const some = await new Promise<FileSystemEntry[]>((ok, no) => reader.readEntries(ok, no));
    if (!some.length) return;
    for (const e of some) await walk(e, `${path}${entry.name}/`, out);
  }
}
