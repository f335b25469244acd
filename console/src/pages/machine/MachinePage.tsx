import { useQuery } from '@tanstack/react-query'
import { Link, useParams } from 'react-router'

import { api, ask, type MachineDetail, type State } from '../../api/client'
import { useWho } from '../../api/who'
import { BootChain } from '../../parts/BootChain'
import { DiskStrip } from '../../parts/DiskStrip'
import { Notice, Stale } from '../../parts/Notice'
import { Section } from '../../parts/Section'
import { CaseState, ratingTone, StatusWord } from '../../parts/Status'
import { bytes, utc } from '../../parts/text'
import { Services } from './Services'
import { Upkeep } from './Upkeep'

/** A machine: what it is made of, how its parts stand, what happened to it. */
export function MachinePage() {
  const name = useParams().name ?? ''
  const who = useWho()
  const detail = useQuery({ queryKey: ['machine', name], queryFn: () => ask(api.GET('/api/v1/machines/{name}', { params: { path: { name } } })) })
  if (detail.isPending) return <Notice>Fetching {name}…</Notice>
  if (detail.data === undefined) return <Notice bad>{detail.error.message}</Notice>
  const m = detail.data
  return (
    <main className="min-h-0 flex-1 overflow-auto">
      <div className="mx-auto max-w-[78rem] px-4 pb-16">
        <header className="flex items-baseline gap-4 border-b-2 border-ink pt-3 pb-1.5">
          <h1 className="text-title font-semibold">
            <Link to="/machines" className="text-soft hover:text-ink" aria-label="All machines">
              Machine
            </Link>{' '}
            {m.name}
          </h1>
          <span className="text-soft">{[m.site, m.model].filter(Boolean).join(' · ')}</span>
          <CaseState state={m.state} />
          {m.gathered && <span className="ml-auto text-small text-soft">as gathered {utc(m.gathered)} UTC</span>}
        </header>
        {detail.isError && <Stale why={detail.error.message} />}
        {m.disks.map((d) => (
          <div key={d.id} className="mt-3">
            <DiskStrip disk={d} />
          </div>
        ))}
        {m.disks.length === 0 && <Notice>No facts of this machine have come in yet: its bags held logs only.</Notice>}
        {m.hardware && (
          <Section title="Made of">
            <HardwareSummary m={m} />
          </Section>
        )}
        {m.facts && <Parts facts={m.facts} conditions={m.conditions} />}
        <Section title="Cases">
          <ul className="text-small">
            {m.history.map((c) => (
              <li key={c.number} className="grid grid-cols-[3rem_10rem_7rem_1fr] border-b border-rule py-0.5">
                <Link to={`/cases/${c.number}`} className="font-semibold text-accent underline underline-offset-2">
                  {c.number}
                </Link>
                <span className="text-soft">{utc(c.received).slice(0, 16)}</span>
                <CaseState state={c.state} />
                <span>{c.headline}</span>
              </li>
            ))}
          </ul>
          {who.data?.role === 'administer' && (
            <p className="mt-1 text-small">
              <a className="text-accent underline underline-offset-2" href={`/api/v1/machines/${encodeURIComponent(m.name)}/export`} download={`${m.name}.tar.gz`}>
                Everything that is kept of {m.name}, its bags too
              </a>
            </p>
          )}
        </Section>
      </div>
    </main>
  )
}

function HardwareSummary({ m }: { m: MachineDetail }) {
  const h = m.hardware
  const disk = m.conditions.find((c) => c.id === 'disk')
  const figures: [string, string][] = [
    ['firmware', m.firmware?.mode.toUpperCase() ?? ''],
    ['processor', [h?.processor, h?.processors ? `${h.processors} logical` : '', h?.architecture].filter(Boolean).join(', ')],
    ['memory', h?.memory ? bytes(h.memory) : ''],
    ['display', h?.width ? `${h.width} × ${h.height}` : ''],
    ['medium in the drive', m.facts?.medium ? `build ${m.facts.medium.build}, starts by ${m.facts.medium.modes.join(' or ')}` : ''],
  ]
  return (
    <dl className="flex flex-wrap gap-x-8 gap-y-1 text-small">
      {figures
        .filter(([, v]) => v)
        .map(([k, v]) => (
          <div key={k}>
            <dt className="text-tiny text-soft">{k}</dt>
            <dd>{v}</dd>
          </div>
        ))}
      {disk && disk.verdict !== 'unknown' && (
        <div>
          <dt className="text-tiny text-soft">disk</dt>
          <dd>
            <StatusWord tone={ratingTone(disk.verdict)}>{disk.measured}</StatusWord>
          </dd>
        </div>
      )}
    </dl>
  )
}

function Parts({ facts, conditions }: { facts: State; conditions: MachineDetail['conditions'] }) {
  return (
    <>
      {facts.chain && facts.chain.length > 0 && (
        <Section title="How it starts">
          <BootChain chain={facts.chain} />
        </Section>
      )}
      {facts.store && (
        <Section title="Component store">
          <p className="text-small">
            {facts.store.faults.length === 0 ? <StatusWord tone="good">sound</StatusWord> : <StatusWord tone="bad">{facts.store.faults.length} faults</StatusWord>} · build {facts.store.build} · {facts.store.components} components, {facts.store.files} files,{' '}
            {bytes(facts.store.bytes)} held against their hashes
          </p>
          <ul className="text-small">
            {facts.store.faults.slice(0, 20).map((f) => (
              <li key={f.kind + f.component + (f.path ?? '')}>
                <StatusWord tone="bad">{f.kind.replaceAll('-', ' ')}</StatusWord> {f.component} {f.version} {f.path} <code className="font-mono text-tiny">{f.want}</code>
              </li>
            ))}
          </ul>
        </Section>
      )}
      {facts.services && (
        <Section title="Services">
          <Services list={facts.services} />
        </Section>
      )}
      <Section title="Upkeep">
        <Upkeep facts={facts} conditions={conditions} />
      </Section>
      {facts.history && (
        <Section title="History">
          <History facts={facts} />
        </Section>
      )}
    </>
  )
}

/** Installs, updates and programs, the latest first. */
function History({ facts }: { facts: NonNullable<MachineDetail['facts']> }) {
  const rows = [
    ...(facts.history ?? []).map((h) => ({ when: h.when, kind: h.kind, title: h.title, note: `build ${h.was || '—'} → ${h.build}`, wants: h.wants?.[0] })),
    ...(facts.programs ?? []).map((p) => ({ when: p.installed, kind: 'program', title: `${p.name} ${p.version}`, note: '', wants: undefined })),
  ].toSorted((a, b) => Date.parse(b.when) - Date.parse(a.when))
  return (
    <ol className="text-small">
      {rows.map((r) => (
        <li key={r.when + r.title} className="grid grid-cols-[10rem_5rem_1fr] gap-x-2">
          <span className="text-soft">{utc(r.when)}</span>
          <span>{r.kind}</span>
          <span>
            {r.title} <span className="text-soft">{r.note}</span> {r.wants && <StatusWord tone="bad">{r.wants}</StatusWord>}
          </span>
        </li>
      ))}
    </ol>
  )
}
