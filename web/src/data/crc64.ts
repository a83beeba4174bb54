/** CRC-64/NVME, as the service keeps it of every part: polynomial 0xad93d23594c93659, reflected. */
const polynomial = 0x9a6c9329ac4bc9b5n;

/** Tables of eight bytes at a time, as halves of 32 bits: big integers are slow. */
const { low, high } = (() => {
  const low = Array.from({ length: 8 }, () => new Uint32Array(256));
  const high = Array.from({ length: 8 }, () => new Uint32Array(256));
  const table = Array.from({ length: 256 }, (_, n) => {
    let c = BigInt(n);
    for (let i = 0; i < 8; i++) c = c & 1n ? (c >> 1n) ^ polynomial : c >> 1n;
    return c;
  });
  let row = table;
  for (let k = 0; k < 8; k++) {
    row.forEach((c, n) => {
      low[k]![n] = Number(c & 0xffffffffn);
      high[k]![n] = Number(c >> 32n);
    });
    row = row.map((c) => (c >> 8n) ^ table[Number(c & 0xffn)]!);
  }
  return { low, high };
})();

/** The CRC of some bytes, as 16 hex digits. */
export function crc64(bytes: Uint8Array): string {
  let lo = 0xffffffff;
  let hi = 0xffffffff;
  let i = 0;
  for (const end = bytes.length - 7; i < end; i += 8) {
    const a = lo ^ (bytes[i]! | (bytes[i + 1]! << 8) | (bytes[i + 2]! << 16) | (bytes[i + 3]! << 24));
    const b = hi ^ (bytes[i + 4]! | (bytes[i + 5]! << 8) | (bytes[i + 6]! << 16) | (bytes[i + 7]! << 24));
    const at = [
      a & 255,
      (a >>> 8) & 255,
      (a >>> 16) & 255,
      a >>> 24,
      b & 255,
      (b >>> 8) & 255,
      (b >>> 16) & 255,
      b >>> 24,
    ];
    lo = hi = 0;
    for (let k = 0; k < 8; k++) {
      lo ^= low[7 - k]![at[k]!]!;
      hi ^= high[7 - k]![at[k]!]!;
    }
  }
  for (; i < bytes.length; i++) {
    const n = (lo ^ bytes[i]!) & 255;
    lo = ((lo >>> 8) | (hi << 24)) ^ low[0]![n]!;
    hi = (hi >>> 8) ^ high[0]![n]!;
  }
  const hex = (x: number) => (~x >>> 0).toString(16).padStart(8, '0');
  return hex(hi) + hex(lo);
}
