// Numbers as people read them, with units.
export const count = (n: number) => n.toLocaleString('en-GB')
/** The first names of a list, and how many more there are. */
export const named = (list: string[], most = 12) =>
  list.slice(0, most).join(', ') + (list.length > most ? ` and ${count(list.length - most)} more` : '')
export const plural = (n: number, one: string, many = one + 's') => `${count(n)} ${n === 1 ? one : many}`
export function bytes(n: number): string {
  const u = ['B', 'KB', 'MB', 'GB', 'TB']
  let i = 0
  while (n >= 1000 && i < u.length - 1) {
    n /= 1000
    i++
  }
  return `${i === 0 ? n : n < 10 ? n.toFixed(1) : Math.round(n)} ${u[i]}`
}
export function metres(m: number): string {
  const a = Math.abs(m)
  if (a >= 1000) return `${(m / 1000).toFixed(2)} km`
  if (a >= 100) return `${m.toFixed(0)} m`
  if (a >= 0.1 || a === 0) return `${m.toFixed(2)} m`
  if (a >= 0.001) return `${(m * 1000).toFixed(0)} mm`
  return `${(m * 1000).toPrecision(2)} mm`
}
export function seconds(s: number): string {
  if (s < 0.001) return 'under 1 ms'
  return s < 1 ? `${Math.round(s * 1000)} ms` : `${s.toFixed(1)} s`
}
export const split = (path: string): [string, string] => {
  const i = path.lastIndexOf('/') + 1
  return [path.slice(0, i), path.slice(i)]
}
/** A moment, the same way everywhere: 28 Nov 2026, 10:41. */
export const when = (t: string) =>
  new Date(t).toLocaleString('en-GB', { dateStyle: 'medium', timeStyle: 'short' })
