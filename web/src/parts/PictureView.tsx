// A picture with its channels, over a checker, down to single texels.
import { ToggleButton, ToggleButtonGroup } from '@mui/material'
import { useEffect, useRef, useState, type PointerEvent, type ReactNode, type WheelEvent } from 'react'
import { TextButton } from './TextButton'
import { Tools } from './Tools'
import { PictureFrame } from './PictureFrame'
import { useStateOf } from './hooks'

/** A picture with its channels, zoomed to single texels with the wheel, moved by dragging. */
export function PictureView({
  url,
  name,
  width,
  height,
  className = '',
  show: chosen,
  onShow,
  children,
}: {
  url: (show: string) => string
  name: string
  width: number
  height: number
  className?: string
  show?: string
  onShow?: (show: string) => void
  children?: ReactNode
}) {
  const [own, setOwn] = useState('all')
  const show = chosen ?? own,
    setShow = onShow ?? setOwn
  const src = url('all')
  const box = useRef<HTMLDivElement>(null)
  const [room, setRoom] = useState<[number, number]>([318, 268])
  const fit = () => Math.min(room[0] / width, room[1] / height)
  const [at, setAt] = useStateOf<{ zoom: number; x: number; y: number } | undefined>(src, undefined) // zoom in screen pixels a texel
  const [texel, setTexel] = useStateOf<{ x: number; y: number; rgba?: number[] } | undefined>(src, undefined)
  const drag = useRef<{ x: number; y: number }>(null)

  const v = at ?? { zoom: 0, x: 0, y: 0 }
  const zoom = v.zoom || fit()
  const place = () => {
    return { left: (room[0] - width * zoom) / 2 + v.x, top: (room[1] - height * zoom) / 2 + v.y }
  }
  const wheel = (e: WheelEvent) => {
    const r = box.current!.getBoundingClientRect(),
      { left, top } = place()
    const px = e.clientX - r.left,
      py = e.clientY - r.top
    const next = Math.min(64, Math.max(fit() / 2, zoom * (e.deltaY < 0 ? 1.25 : 0.8)))
    const tx = (px - left) / zoom,
      ty = (py - top) / zoom
    setAt({
      zoom: next,
      x: px - tx * next - (r.width - width * next) / 2,
      y: py - ty * next - (r.height - height * next) / 2,
    })
  }
  const img = useRef<HTMLImageElement>(null)
  const look = (e: PointerEvent) => {
    if (drag.current) {
      setAt({ zoom, x: v.x + e.clientX - drag.current.x, y: v.y + e.clientY - drag.current.y })
      drag.current = { x: e.clientX, y: e.clientY }
      return
    }
    const r = box.current!.getBoundingClientRect(),
      { left, top } = place()
    const x = Math.floor((e.clientX - r.left - left) / zoom),
      y = Math.floor((e.clientY - r.top - top) / zoom)
    if (x < 0 || y < 0 || x >= width || y >= height) {
      setTexel(undefined)
      return
    }
    const c = document.createElement('canvas')
    c.width = c.height = 1
    const g = c.getContext('2d')
    let rgba: number[] | undefined
    if (g && img.current?.complete) {
      g.drawImage(img.current, x, y, 1, 1, 0, 0, 1, 1)
      rgba = Array.from(g.getImageData(0, 0, 1, 1).data)
    }
    setTexel({ x, y, rgba })
  }
  useEffect(() => {
    const el = box.current!,
      watch = new ResizeObserver(() => setRoom([el.clientWidth, el.clientHeight]))
    watch.observe(el)
    return () => watch.disconnect()
  }, [])
  useEffect(() => {
    // the wheel must not scroll the column
    const el = box.current
    const hold = (e: Event) => e.preventDefault()
    el?.addEventListener('wheel', hold, { passive: false })
    return () => el?.removeEventListener('wheel', hold)
  }, [])
  const p = place()
  return (
    <>
      <PictureFrame
        className={`picture zoom ${className}`}
        ref={box}
        tabIndex={0}
        aria-label="Picture"
        onWheel={wheel}
        onPointerMove={look}
        onPointerLeave={() => {
          drag.current = null
          setTexel(undefined)
        }}
        onPointerDown={(e) => {
          drag.current = { x: e.clientX, y: e.clientY }
        }}
        onPointerUp={() => {
          drag.current = null
        }}
        onKeyDown={(e) => {
          if (e.key === '+' || e.key === '-')
            setAt({
              zoom: Math.min(64, Math.max(fit() / 2, zoom * (e.key === '+' ? 1.25 : 0.8))),
              x: v.x,
              y: v.y,
            })
          if (e.key === '=') setAt(undefined)
        }}
      >
        <img
          ref={img}
          alt={name}
          src={url(show)}
          draggable={false}
          style={{
            position: 'absolute',
            left: p.left,
            top: p.top,
            width: width * zoom,
            height: height * zoom,
            maxWidth: 'none',
          }}
        />
      </PictureFrame>
      <Tools low>
        <ToggleButtonGroup
          exclusive
          size="small"
          value={show}
          aria-label="Channels"
          onChange={(_, x: string | null) => x && setShow(x)}
        >
          {[
            ['all', 'All'],
            ['colour', 'Colour'],
            ['r', 'R'],
            ['g', 'G'],
            ['b', 'B'],
            ['a', 'Alpha'],
          ].map(([k, label]) => (
            <ToggleButton key={k} value={k}>
              {label}
            </ToggleButton>
          ))}
        </ToggleButtonGroup>
        <TextButton onClick={() => setAt({ zoom: 1, x: 0, y: 0 })}>1:1</TextButton>
        <TextButton onClick={() => setAt(undefined)}>Fit</TextButton>
        {children}
      </Tools>
      <Tools low className="soft small mono">
        <span>{zoom >= 10 ? zoom.toFixed(0) : zoom.toFixed(2)} px a texel</span>
        <span data-texel={texel ? `${texel.x},${texel.y}` : ''}>
          {texel ? `${texel.x}, ${texel.y}${texel.rgba ? ` = ${texel.rgba.join(' ')}` : ''}` : ''}
        </span>
      </Tools>
    </>
  )
}
