import { Button, ToggleButton, ToggleButtonGroup } from '@mui/material'
import { useQueryClient } from '@tanstack/react-query'
import { useState } from 'react'
import { useNavigate, useParams } from 'react-router'
import { api, ok, refresh, useChains, useFind, useSources, viewUrl } from '../api/client'
import { Bind } from '../parts/Bind'
import { Fault, Figures, Pictures } from '../parts/bits'
import { count, metres } from '../parts/format'
import { Gallery } from './Gallery'
import { SaveAs } from '../parts/SaveAs'
import { View3D } from '../parts/View3D'
import { useProjectId } from '../Shell'

export function Finds() {
  const project = useProjectId()
  const chosen = Number(useParams().find ?? 0)
  const { data: f, error } = useFind(project, chosen)
  const { data: chains } = useChains(project)
  const { data: sources } = useSources(project)
  const go = useNavigate()
  const q = useQueryClient()
  const [fault, setFault] = useState<unknown>()
  const m = f?.model
  const from = sources?.find((x) => x.label === f?.sourceLabel)
  const chain = async () => {
    const there = chains?.find((c) => c.find === f!.id)
    if (there) return go(`/p/${project}/chain/${there.id}`)
    try {
      const c = await ok(api.POST('/api/projects/{project}/chains', { params: { path: { project } }, body: { find: f!.id, name: `${f!.name} to engine` } }))
      await refresh(q, project)
      go(`/p/${project}/chain/${c.id}`)
    } catch (e) { setFault(e) }
  }
  const read = async (readings: Record<string, string>) => {
    setFault(undefined)
    try { await ok(api.PUT('/api/finds/{find}/readings', { params: { path: { find: f!.id } }, body: readings })) } catch (e) { setFault(e) }
    void refresh(q, project)
  }
  const remove = async () => {
    try { await ok(api.DELETE('/api/finds/{find}', { params: { path: { find: f!.id } } })); go(`/p/${project}/finds`) } catch (e) { setFault(e) }
    void refresh(q, project)
  }
  return (
    <div className="cols cols-finds">
      <Gallery project={project} chosen={chosen} />
      {m ? (
        <View3D panes={[{ url: viewUrl(m.scene), title: f.name, note: `${m.stats.height != null ? `${metres(m.stats.height)} tall` : 'unit unknown'} · ${count(m.stats.triangles)} triangles`, axes: <>{m.basis.text.split(', ').slice(0, 2).join(' · ')}<br />{m.basis.text.split(', ').slice(2).join(' · ')}</> }]} motions={m.motions} bones={m.stats.bones} />
      ) : <div className="view"><div className="veil">{f?.state === 'decoding' ? 'The model is being decoded…' : ''}</div></div>}
      <div className="pane r">
        <div className="head"><h2>{f?.name ?? 'Evidence'}</h2>{m && <span className="tag">{m.format}</span>}</div>
        <Fault error={fault ?? error ?? f?.error} />
        {f && (<>
          <div className="body row wrap" style={{ paddingTop: 10 }}>
            <Button variant="contained" disabled={!m} onClick={() => void chain()}>{chains?.some((c) => c.find === f.id) ? 'Go to its chain' : 'Start a chain'}</Button>
            {m && <SaveAs find={f.id} name={f.name} />}
            <Button onClick={() => void remove()}>Take out</Button>
          </div>
          {m && (<>
            <div className="head bare"><h2>Pictures</h2>{m.stats.missing > 0 ? <span className="tag w">{m.stats.missing} missing</span> : <span className="tag g">all found</span>}</div>
            <Pictures list={m.pictures} bind={(ref) => <Bind project={project} name={ref} />} />
            {m.readings && m.readings.length > 0 && <><div className="head bare"><h2>Readings</h2></div>{m.readings.map((r) => (
              <div className="item" key={r.name}>{r.about || r.name}<div className="row">
                <ToggleButtonGroup exclusive size="small" value={r.chosen} aria-label={r.name} onChange={(_, v: string | null) => v && void read({ ...Object.fromEntries(m.readings!.map((x) => [x.name, x.chosen])), [r.name]: v })}>
                  {r.choices.map((c) => <ToggleButton key={c} value={c}>{c}</ToggleButton>)}
                </ToggleButtonGroup></div></div>))}</>}
            <div className="head bare"><h2>Figures</h2></div>
            <Figures stats={m.stats} basis={m.basis} />
            {(m.cameras?.length || m.helpers?.length || m.rootBone) && <><div className="head bare"><h2>In it</h2></div><div className="facts">
              {m.rootBone && <><span>Root bone</span><div className="mono">{m.rootBone}</div></>}
              <span>Materials</span><div>{m.materials.join(', ')}</div>
              {m.motions.length > 0 && <><span>Motions</span><div>{m.motions.map((x) => `${x.name} ${x.seconds.toFixed(1)} s`).join(', ')}</div></>}
              {m.cameras && m.cameras.length > 0 && <><span>Cameras</span><div className="warn">{m.cameras.join(', ')}</div></>}
              {m.helpers && m.helpers.length > 0 && <><span>Helpers</span><div className="warn">{m.helpers.join(', ')}</div></>}
            </div></>}
            {m.notes.length > 0 && <><div className="head bare"><h2>Notes</h2></div>{m.notes.map((n) => <div className="item" key={n}>{n}</div>)}</>}
          </>)}
          <div className="facts"><span>From</span><div style={{ overflowWrap: 'anywhere' }}>{f.entryPath} in {f.sourceLabel}</div>{from && <><span>Terms</span><div data-terms>{from.short}{from.terms.owner && <small className="soft"> · {from.terms.owner}</small>}</div></>}</div>
        </>)}
      </div>
    </div>
  )
}
