// Files and folders that are dropped: read, sent in pieces, gone on with where
// they stopped.
import { useSyncExternalStore } from 'react'
import { ApiError, type S } from '../api/http'
import { beginUpload, finishUpload, sendPiece, uploadState } from '../api/sources'

interface Dropped {
  name: string
  folder: boolean
  files: { path: string; file: File }[]
}
export interface Sending {
  name: string
  sent: number
  total: number
  rate: number
}

const PIECE = 8 << 20

/** Lists what was dropped: single files, and folders with all that they hold. */
async function dropped(list: DataTransferItemList | FileList): Promise<Dropped[]> {
  const out: Dropped[] = []
  if (list instanceof FileList) {
    // A folder that was chosen in a file dialog names its files by paths.
    const roots = new Map<string, Dropped>()
    for (const f of Array.from(list)) {
      const [root, ...rest] = f.webkitRelativePath.split('/')
      if (rest.length === 0) out.push({ name: f.name, folder: false, files: [{ path: f.name, file: f }] })
      else {
        if (!roots.has(root)) {
          roots.set(root, { name: root, folder: true, files: [] })
          out.push(roots.get(root)!)
        }
        roots.get(root)!.files.push({ path: rest.join('/'), file: f })
      }
    }
    return out
  }
  // Before the first await: the list is emptied then.
  const items = Array.from(list).map((i) => ({ entry: i.webkitGetAsEntry(), file: i.getAsFile() }))
  for (const { entry: e, file } of items) {
    if (!e) {
      if (file) out.push({ name: file.name, folder: false, files: [{ path: file.name, file }] })
    } else if (e.isFile)
      out.push({
        name: e.name,
        folder: false,
        files: [{ path: e.name, file: await fileOf(e as FileSystemFileEntry) }],
      })
    else {
      const d: Dropped = { name: e.name, folder: true, files: [] }
      await walk(e as FileSystemDirectoryEntry, '', d)
      if (d.files.length > 0) out.push(d)
    }
  }
  return out
}

const fileOf = (e: FileSystemFileEntry) => new Promise<File>((done, fail) => e.file(done, fail))

async function walk(dir: FileSystemDirectoryEntry, at: string, to: Dropped) {
  const reader = dir.createReader()
  for (;;) {
    const part = await new Promise<FileSystemEntry[]>((done, fail) => reader.readEntries(done, fail))
    if (part.length === 0) return
    for (const e of part) {
      if (e.isFile) to.files.push({ path: at + e.name, file: await fileOf(e as FileSystemFileEntry) })
      else await walk(e as FileSystemDirectoryEntry, `${at}${e.name}/`, to)
    }
  }
}

// What is under way belongs to the page, not to a screen: leaving a screen does
// not stop it, and coming back shows it.
interface Under {
  sending?: Sending
  fault?: unknown
  stop?: () => void
}
let under: Under = {}
const listeners = new Set<() => void>()
const set = (u: Under) => {
  under = u
  listeners.forEach((f) => f())
}

/** What is being taken in, if anything, and what went wrong last. */
export const useUploads = () =>
  useSyncExternalStore(
    (f) => {
      listeners.add(f)
      return () => listeners.delete(f)
    },
    () => under,
  )

let queue: Promise<void> = Promise.resolve()

/** Takes in what was dropped, after what was dropped before it. */
export function takeIn(project: number, list: DataTransferItemList | FileList, changed: () => void) {
  const what = dropped(list) // at once: the list is emptied after the event
  queue = queue.then(async () => {
    const stop = new AbortController()
    try {
      for (const d of await what) {
        await send(project, d, (sending) => set({ sending, stop: () => stop.abort() }), stop.signal)
        changed()
      }
      set({})
    } catch (fault) {
      set(stop.signal.aborted ? {} : { fault })
    }
  })
}

/** Sends what was dropped and mounts it. Dropping the same again goes on where it stopped. */
async function send(
  project: number,
  d: Dropped,
  progress: (s: Sending) => void,
  signal: AbortSignal,
): Promise<S['Source']> {
  const files = d.files.map((f) => ({ path: f.path, size: f.file.size, modified: f.file.lastModified }))
  const u = await beginUpload(project, { name: d.name, folder: d.folder, files })
  const total = files.reduce((n, f) => n + f.size, 0)
  const begun = u.received.reduce((n, x) => n + x, 0)
  const start = performance.now()
  let sent = begun
  const tell = () =>
    progress({
      name: d.name,
      sent,
      total,
      rate: (sent - begun) / Math.max(0.2, (performance.now() - start) / 1000),
    })
  tell()
  for (let i = 0; i < files.length; i++) {
    let at = u.received[i]
    for (let failed = 0; at < files[i].size;) {
      try {
        const r = await sendPiece(u.id, i, at, d.files[i].file.slice(at, at + PIECE), signal)
        if (!r.ok) {
          if (r.status !== 409 || ++failed > 3)
            throw new ApiError(r.message ?? `the server answered ${r.status}`)
          at = (await uploadState(u.id)).received[i]
          continue
        }
        sent += r.received! - at
        at = r.received!
        failed = 0
      } catch (e) {
        if (signal.aborted || e instanceof ApiError || ++failed > 5)
          throw e instanceof TypeError
            ? new ApiError(
                `${d.name} was sent to ${Math.round((100 * sent) / total)} % when the connection broke. Drop it again and it goes on from there.`,
              )
            : e
        await new Promise((r) => setTimeout(r, 400 * failed)) // the server may be starting again
      }
      tell()
    }
  }
  return finishUpload(u.id)
}
