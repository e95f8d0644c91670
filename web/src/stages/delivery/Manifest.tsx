// The manifest of a delivery: what it is made of.
import { styled, Table, TableBody, TableCell, TableHead, TableRow } from '@mui/material'
import { useDelivery } from '../../api/chains'
import type { S } from '../../api/http'
import { Facts } from '../../parts/Facts'
import { bytes } from '../../parts/format'
import { Head } from '../../parts/Head'
import { Item } from '../../parts/Item'
import { Tag } from '../../parts/Tag'
import { Tone } from '../../parts/Tone'

interface Manifest {
  asset: string
  file: string
  sha256: string
  files?: { path: string; kind: string; size: number; sha256: string }[]
  target?: string
  excavate: string
  sources: { name: string; sha256?: string; entries: string[]; terms: { text?: string; owner?: string } }[]
  chain: { chain: string; steps: { step: string; off?: boolean }[] | null }
  stepVersions: Record<string, number>
  rehearsal?: { stops: number; warns: number; holds: number }
  notes: string[]
}

const Hash = styled('span')({ fontFamily: 'var(--mono)', fontSize: 12.5, overflowWrap: 'anywhere' })

/** The manifests of all assets of a delivery, each under its asset's name. */
export function Manifests({ project, delivery }: { project: number; delivery: S['Delivery'] }) {
  const { data: whole } = useDelivery(project, delivery.also && delivery.id)
  if (!delivery.also) return <ManifestOf manifest={delivery.manifest} title={delivery.name} />
  return [whole?.manifest, ...(whole?.also ?? []).map((x) => x.manifest)].map((m, i) => (
    <ManifestOf key={i} manifest={m} />
  ))
}

function ManifestOf({
  manifest,
  title,
}: {
  manifest: S['Delivery']['manifest']
  /** Of what it is, where that is not the asset. */
  title?: string
}) {
  if (!manifest) return null
  const m = manifest as unknown as Manifest
  const steps = (m.chain.steps ?? [])
    .map((s) => s.step + (s.off ? ' (off)' : ` v${m.stepVersions[s.step] ?? 1}`))
    .join(' → ')
  return (
    <>
      <Head
        title={`Manifest of ${title ?? m.asset}`}
        end={<Tone is="soft">Excavate {m.excavate}</Tone>}
        ruled
      />
      <Facts
        of={[
          ['File', m.file],
          ['SHA-256', <Hash key="hash">{m.sha256}</Hash>],
          ['Target', m.target],
          [
            'Rehearsal',
            m.rehearsal && `${m.rehearsal.holds} hold, ${m.rehearsal.warns} warn, ${m.rehearsal.stops} stop`,
          ],
          ['Chain', steps || 'no steps'],
        ]}
      />
      {m.files && (
        <Table size="small" aria-label="Files of the delivery">
          <TableHead>
            <TableRow>
              <TableCell>File</TableCell>
              <TableCell>What it is</TableCell>
              <TableCell align="right">Size</TableCell>
              <TableCell>SHA-256</TableCell>
            </TableRow>
          </TableHead>
          <TableBody>
            {m.files.map((f) => (
              <TableRow key={f.path}>
                <TableCell>{f.path}</TableCell>
                <TableCell>{f.kind}</TableCell>
                <TableCell align="right">{bytes(f.size)}</TableCell>
                <TableCell>
                  <Hash title={f.sha256}>{f.sha256.slice(0, 16)}…</Hash>
                </TableCell>
              </TableRow>
            ))}
          </TableBody>
        </Table>
      )}
      <Table size="small" aria-label="Sources of the delivery">
        <TableHead>
          <TableRow>
            <TableCell>Source</TableCell>
            <TableCell>Taken from it</TableCell>
            <TableCell>SHA-256</TableCell>
          </TableRow>
        </TableHead>
        <TableBody>
          {m.sources.map((s) => (
            <TableRow key={s.name}>
              <TableCell>{s.name}</TableCell>
              <TableCell>
                {s.entries.map((e) => (
                  <div key={e}>{e}</div>
                ))}
              </TableCell>
              <TableCell>
                <Hash title={s.sha256}>
                  {s.sha256?.slice(0, 16)}
                  {s.sha256 && '…'}
                </Hash>
              </TableCell>
            </TableRow>
          ))}
        </TableBody>
      </Table>
      {m.notes.map((n) => (
        <Item key={n}>
          <Tag tone="warn">note</Tag> {n}
        </Item>
      ))}
    </>
  )
}
