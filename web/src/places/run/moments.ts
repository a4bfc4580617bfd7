/** Seconds of a moment of a run as people write it: 2:30, 1:02:30, 150 s, 150; null where it is none. */
export function momentOf(text: string): number | null {
  const parts = /^\s*(?:(\d+):)?(\d+):([0-5]?\d(?:\.\d+)?)\s*$/.exec(text)
  if (parts)
    return Number(parts[1] ?? 0) * 3600 + Number(parts[2] ?? 0) * 60 + Number(parts[3] ?? 0)
  const plain = /^\s*(\d+(?:\.\d+)?)\s*s?\s*$/.exec(text)
  return plain ? Number(plain[1]) : null
}
