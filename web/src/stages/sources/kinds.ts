// What the kinds and sizes of entries are called.
import type { S } from '../../api/http'

/** A kind of entry: one, and many. */
export const kindWords: Record<S['Kind'], [string, string]> = {
  model: ['model', 'models'],
  picture: ['picture', 'pictures'],
  archive: ['archive', 'archives'],
  sound: ['sound', 'sounds'],
  text: ['text', 'texts'],
  data: ['other', 'other'],
  '': ['being read', 'being read'],
}

/** Sizes to choose from: their name in the form, what it says, and from how many bytes to how many; 0 is no bound. */
export const sizes: [string, string, number, number][] = [
  ['', 'Any size', 0, 0],
  ['s', 'Under 10 KB', 0, 9_999],
  ['m', '10 KB to 1 MB', 10_000, 999_999],
  ['l', '1 to 100 MB', 1_000_000, 99_999_999],
  ['x', '100 MB and more', 100_000_000, 0],
]
