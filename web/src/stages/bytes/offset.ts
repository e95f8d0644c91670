// Offsets as they are written, and how many bytes stand in a row.

/** Bytes in a row. */
export const ROW = 16

export const hex = (n: number, w = 0) => n.toString(16).padStart(w, '0')

/** Reads an offset: decimal, or hexadecimal with 0x. */
export const offset = (s: string) => {
  const t = s.trim()
  const n = /^(\d+|0x[0-9a-f]+)$/i.test(t) ? Number(t.toLowerCase()) : NaN
  return Number.isSafeInteger(n) ? n : undefined
}
