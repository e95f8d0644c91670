// Numbers as people type them, read strictly: what is not one number as a
// whole is none.

/** Reads one decimal number, with a point or a comma before its decimals; undefined is anything else. */
export function readNumber(text: string): number | undefined {
  const t = text.trim().replace(',', '.')
  if (!/^[+-]?(\d+\.?\d*|\.\d+)(e[+-]?\d{1,3})?$/i.test(t)) return undefined
  const n = Number(t)
  return isFinite(n) ? n : undefined
}

/** A value in another unit, without the digits that only the change of unit made. */
export const rescaled = (n: number, factor: number) => Number((n * factor).toPrecision(12))
