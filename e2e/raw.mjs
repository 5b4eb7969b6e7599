import { createHash, randomFillSync } from "node:crypto";
import { closeSync, ftruncateSync, openSync, readSync, writeSync } from "node:fs";

export const MiB = 1 << 20;

// rawDrive makes an image of so many MiB with an old table and one partition, at the first
// MiB, that nothing is known of, full of bytes that do not repeat; it returns what these hash to.
export function rawDrive(path, whole, large, signature) {
  const f = openSync(path, "w+"),
    first = Buffer.alloc(512),
    piece = Buffer.alloc(MiB),
    hash = createHash("sha256");
  ftruncateSync(f, whole * MiB);
  first.writeUInt32LE(signature, 440);
  first[446 + 4] = 0x07;
  first.writeUInt32LE(2048, 446 + 8);
  first.writeUInt32LE(large * 2048, 446 + 12);
  first.writeUInt16LE(0xaa55, 510);
  writeSync(f, first, 0, 512, 0);
  for (let i = 0; i < large; i++) {
    randomFillSync(piece);
    hash.update(piece);
    writeSync(f, piece, 0, MiB, (1 + i) * MiB);
  }
  closeSync(f);
  return hash.digest("hex");
}

// hashAt is what so many MiB of an image hash to, from so many MiB on.
export function hashAt(path, at, large) {
  const f = openSync(path, "r"),
    piece = Buffer.alloc(MiB),
    hash = createHash("sha256");
  for (let i = 0; i < large; i++) {
    readSync(f, piece, 0, MiB, (at + i) * MiB);
    hash.update(piece);
  }
  closeSync(f);
  return hash.digest("hex");
}
