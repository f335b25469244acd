import { Collapsible } from 'radix-ui'
import { useId } from 'react'

import type { Disk } from '../api/client'
import { StatusWord } from './Status'
import { bytes } from './text'

type Partition = Disk['partitions'][number]
type Inner = NonNullable<Disk['volumes']>[number]

const fills = ['fill-(--part-a)', 'fill-(--part-b)', 'fill-(--part-c)']
const width = 1000
const height = 54
const cap = 15
const least = 84

/** A disk to scale, between the two copies of its table; a damaged copy is hatched. */
export function DiskStrip({ disk }: { disk: Disk }) {
  const places = lay(disk)
  const damage = useId() // several disks on one page each have a pattern of their own
  return (
    <figure aria-label={`Disk ${disk.source}`} className="border border-rule bg-sheet px-3 py-1.5">
      <figcaption className="flex items-baseline justify-between text-tiny">
        {disk.style === 'gpt' ? <Copy name="primary GPT, LBA" copy={disk.primary} /> : <span />}
        <span className="text-small">
          <b className="font-semibold">{disk.source}</b> {bytes(disk.size)} {disk.style === 'none' ? 'no table' : disk.style.toUpperCase()}{' '}
          <span className="text-soft">sectors of {disk.sectorSize} bytes</span>
        </span>
        {disk.style === 'gpt' ? <Copy name="backup GPT, LBA" copy={disk.backup} /> : <span />}
      </figcaption>
      <svg viewBox={`0 0 ${width} ${height}`} className="mt-1 block w-full" role="img" aria-label="Partitions to scale">
        <defs>
          <pattern id={damage} width="6" height="6" patternUnits="userSpaceOnUse" patternTransform="rotate(45)">
            <rect width="6" height="6" className="fill-(--bad-wash)" />
            <rect width="3" height="6" className="fill-(--bad)" />
          </pattern>
        </defs>
        <rect x={0} y={0} width={width} height={height} className="fill-(--empty)" />
        {places.map(({ part, x, w }, i) => (
          <g key={part.number}>
            <title>{`partition ${part.number}: LBA ${part.first} to ${part.last}, ${bytes(part.size)}, ${part.type}`}</title>
            <rect x={x} y={0} width={w} height={height} className={`${fills[i % fills.length] ?? ''} stroke-(--sheet)`} strokeWidth={2} />
            <text x={x + 8} y={22} className="fill-(--ink) text-[13px] font-semibold">
              {part.number} {part.role && part.role !== 'data' ? part.role : part.content.kind || 'unknown'}
            </text>
            <text x={x + 8} y={41} className="fill-(--ink) text-[12px]">
              {bytes(part.size)}
            </text>
          </g>
        ))}
        {disk.style === 'gpt' && (
          <>
            <Cap x={0} state={disk.primary.state} damage={damage} />
            <Cap x={width - cap} state={disk.backup.state} damage={damage} />
          </>
        )}
      </svg>
      <Collapsible.Root>
        <Collapsible.Trigger className="mt-1 text-tiny text-accent underline underline-offset-2">
          {disk.partitions.length} {disk.partitions.length === 1 ? 'partition' : 'partitions'} in figures
        </Collapsible.Trigger>
        <Collapsible.Content>
          <Partitions list={disk.partitions} />
        </Collapsible.Content>
      </Collapsible.Root>
      {disk.volumes && disk.volumes.length > 0 && <Inside list={disk.volumes} />}
    </figure>
  )
}

function Cap({ x, state, damage }: { x: number; state: string; damage: string }) {
  const sound = state === 'sound'
  return (
    <rect x={x} y={0} width={cap} height={height} fill={sound ? undefined : `url(#${damage})`} className={sound ? 'fill-(--accent)' : undefined} data-state={state}>
      <title>table copy: {state}</title>
    </rect>
  )
}

function Copy({ name, copy }: { name: string; copy: Disk['primary'] }) {
  return (
    <span>
      {name} {copy.lba}: <StatusWord tone={copy.state === 'sound' ? 'good' : 'bad'}>{copy.state}</StatusWord>
    </span>
  )
}

/** Shares the width out by size; nothing gets so narrow that its label is lost. */
function lay(disk: Disk): { part: Partition; x: number; w: number }[] {
  const room = width - 2 * cap
  const parts = [...disk.partitions].sort((a, b) => a.offset - b.offset)
  const free = Math.max(0, room - least * parts.length)
  let x = cap
  let at = 0
  return parts.map((part) => {
    x += (Math.max(0, part.offset - at) / disk.size) * free
    const w = least + (part.size / disk.size) * free
    const place = { part, x, w }
    x += w
    at = part.offset + part.size
    return place
  })
}

/** What lies inside partitions: logical volumes, arrays, what encrypted volumes hold. */
function Inside({ list }: { list: Inner[] }) {
  return (
    <table className="mt-1.5 w-full text-small" aria-label="Volumes inside the partitions">
      <thead className="text-left text-tiny text-soft">
        <tr>
          <th className="font-normal">№</th>
          <th className="font-normal">inside the partitions</th>
          <th className="font-normal">lies in</th>
          <th className="pr-4 text-right font-normal">size</th>
          <th className="pr-4 text-right font-normal">free</th>
          <th className="font-normal">holds</th>
          <th className="font-normal">used as</th>
        </tr>
      </thead>
      <tbody>
        {list.map((v) => (
          <tr key={v.number} className="border-t border-rule align-top">
            <td className="pr-2">{v.number}</td>
            <td className="pr-3">
              {v.name} <span className="text-soft">{v.kind}</span>
              {v.problem && (
                <span className="block text-tiny">
                  <StatusWord tone={v.damaged ? 'bad' : 'odd'}>{v.damaged ? 'damaged' : 'mind'}</StatusWord> {v.problem}
                </span>
              )}
            </td>
            <td className="pr-3">{v.within.join(', ')}</td>
            <td className="pr-4 text-right whitespace-nowrap">{bytes(v.size)}</td>
            <td className="pr-4 text-right whitespace-nowrap">{v.content.free >= 0 && v.content.kind ? bytes(v.content.free) : ''}</td>
            <td className="pr-3">{v.content.kind || 'nothing known'}</td>
            <td>{v.system ? `system: ${v.system.name}` : [v.role, v.mount && `at ${v.mount}`].filter(Boolean).join(' ')}</td>
          </tr>
        ))}
      </tbody>
    </table>
  )
}

function Partitions({ list }: { list: Partition[] }) {
  if (list.length === 0) return <p className="mt-1 text-small text-soft">No partitions can be read.</p>
  return (
    <table className="mt-1.5 w-full text-small">
      <thead className="text-left text-tiny text-soft">
        <tr>
          <th className="font-normal">№</th>
          <th className="pr-4 text-right font-normal">LBA, first to last</th>
          <th className="pr-4 text-right font-normal">size</th>
          <th className="pr-4 text-right font-normal">free</th>
          <th className="font-normal">type</th>
          <th className="font-normal">holds</th>
          <th className="font-normal">used as</th>
        </tr>
      </thead>
      <tbody>
        {list.map((p) => (
          <tr key={p.number} className="border-t border-rule">
            <td className="pr-2">{p.number}</td>
            <td className="pr-4 text-right font-mono text-tiny">
              {p.first} to {p.last}
            </td>
            <td className="pr-4 text-right whitespace-nowrap">{bytes(p.size)}</td>
            <td className="pr-4 text-right whitespace-nowrap">{p.content.free >= 0 && p.content.kind ? bytes(p.content.free) : ''}</td>
            <td className="pr-3">{p.type}</td>
            <td className="pr-3">
              {p.content.kind || 'nothing known'} {p.content.label && `“${p.content.label}”`}
            </td>
            <td>{p.system ? `system: ${p.system.name}` : [p.role, p.mount && `at ${p.mount}`].filter(Boolean).join(' ')}</td>
          </tr>
        ))}
      </tbody>
    </table>
  )
}
