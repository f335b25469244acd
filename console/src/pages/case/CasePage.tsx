import { Progress } from 'radix-ui'
import { Link } from 'react-router'

import type { CaseDetail } from '../../api/client'
import { useWho } from '../../api/who'
import { BootChain } from '../../parts/BootChain'
import { StartWays } from '../../parts/StartWays'
import { DiskStrip } from '../../parts/DiskStrip'
import { LadderView } from '../../parts/LadderView'
import { CaseNumber } from '../../parts/LogAt'
import { Notice, Stale } from '../../parts/Notice'
import { Section } from '../../parts/Section'
import { CaseState } from '../../parts/Status'
import { Timeline } from '../../parts/Timeline'
import { bytes, utc } from '../../parts/text'
import { AtMachine } from './AtMachine'
import { Attempts } from './Attempts'
import { Climbs } from './Climbs'
import { Approvals } from './Approvals'
import { Close } from './Close'
import { Failure } from './Failure'
import { Fit } from './Fit'
import { NextChecks } from './NextChecks'
import { useCase } from './queries'
import { ReadAgain } from './ReadAgain'
import { Why } from './Why'

/** The docket of a case: what was tried, where it broke, why, what to do. */
export function CasePage({ number }: { number: number }) {
  const { detail, connected } = useCase(number)
  if (detail.isPending) return <Notice>Fetching case {number}…</Notice>
  if (detail.data === undefined) return <Notice bad>{detail.error.message}</Notice>
  const c = detail.data
  return (
    <main className="min-h-0 flex-1 overflow-auto">
      <div className="mx-auto max-w-[78rem] px-4 pb-16">
        <Head c={c} connected={connected} />
        {detail.isError && <Stale why={detail.error.message} />}
        {c.note && (
          <p className="mt-2 max-w-[80ch] text-small">
            {c.state === 'closed' ? '✓ closed' : '● open again'}
            {c.closedBy && ` by ${c.closedBy}`}: {c.note}
          </p>
        )}
        {c.progress && <Reading progress={c.progress} />}
        {c.problem && <p className="mt-4 max-w-[80ch] text-bad">▲ {c.problem}</p>}
        {c.state === 'unreadable' && (
          <p className="mt-2 max-w-[80ch]">
            What the service kept of the bag cannot be read. Hand the same bag in again, with <code className="font-mono">diorthos submit BAG</code>: the case is then read from the new copy. If the bag is not at hand,
            gather anew.
          </p>
        )}
        {c.state === 'unreadable' && <ReadAgain number={c.number} />}
        {c.docket && (
          <CaseNumber value={c.number}>
            {c.docket.disks.map((d) => (
              <div key={d.id} className="mt-3">
                <DiskStrip disk={d} />
              </div>
            ))}
            {c.docket.state?.chain?.some((l) => l.fault) && (
              <Section title="How it starts">
                <BootChain chain={c.docket.state.chain} />
                {c.docket.state.ways && <StartWays ways={c.docket.state.ways} />}
              </Section>
            )}
            {c.docket.call && (
              <Section title="What was told">
                <p className="max-w-[80ch] font-mono text-small break-words whitespace-pre-wrap">{c.docket.call.words}</p>
                {c.docket.files.length === 0 && <p className="text-small text-soft">No evidence was handed in yet. A bag of this machine joins this case.</p>}
              </Section>
            )}
            <Section title="What was tried">
              <Attempts list={c.docket.tried} logs={c.docket.files.length} />
            </Section>
            {c.docket.broke && (
              <Section title="Where it broke">
                <Failure failure={c.docket.broke} />
              </Section>
            )}
            {c.docket.line.length > 0 && (
              <Section title="When">
                <Timeline docket={c.docket} />
              </Section>
            )}
            {c.docket.suspects.length > 0 && (
              <Section title="Changed before it">
                <ul className="text-small">
                  {c.docket.suspects.slice(0, 8).map((s) => (
                    <li key={s.when + s.action + s.object} className="grid grid-cols-[10rem_6rem_1fr]">
                      <span className="text-soft">{utc(s.when)}</span>
                      <span>{s.action}</span>
                      <span>
                        {s.object} <span className="text-soft">{[s.from, s.to].filter(Boolean).join(' → ')}</span>{' '}
                        {s.named && <span className="text-odd">◆ named by the failure</span>}
                      </span>
                    </li>
                  ))}
                </ul>
              </Section>
            )}
            <Section title="Why">
              <Why findings={c.docket.why} looked={c.docket.state?.looked} headline={c.headline} kinds={c.docket.kinds} sound={c.state === 'healthy' || c.state === 'closed'} />
            </Section>
            {c.docket.settle.length > 0 && (
              <Section title="What would settle it">
                <NextChecks list={c.docket.settle} />
              </Section>
            )}
            {c.docket.toDo.length > 0 && (
              <Section title="What to do">
                <p className="mb-1 text-small">
                  <a className="text-accent underline underline-offset-2" href={`/api/v1/cases/${c.number}/sheet`} target="_blank" rel="noreferrer">
                    The sheet to print
                  </a>
                  <span className="text-soft"> · on the machine: </span>
                  <code className="font-mono text-tiny">diorthos climb {c.number} --image {c.docket.state?.plate ? 'FOLDER' : 'DISK'} --hands</code>
                </p>
                <LadderView rungs={c.docket.toDo} stands={c.stands} busy={c.state === 'climbing'} typical={c.typical} disks={c.docket.disks} />
                <Approvals c={c} />
                <AtMachine c={c} />
              </Section>
            )}
            {c.docket.ready.length > 0 && (
              <Section title="Fit for">
                <Fit choices={c.docket.ready} />
              </Section>
            )}
            {c.climbs.length > 0 && (
              <Section title="Climbs">
                <Climbs list={c.climbs} rungs={c.docket?.toDo ?? []} typical={c.typical} />
              </Section>
            )}
            <Section title="Read">
              <Files c={c} />
            </Section>
          </CaseNumber>
        )}
      </div>
    </main>
  )
}

function Head({ c, connected }: { c: CaseDetail; connected: boolean }) {
  return (
    <header className="flex flex-wrap items-baseline gap-x-4 border-b-2 border-ink pt-3 pb-1.5">
      <h1 className="text-title font-semibold whitespace-nowrap">
        <Link to="/" className="text-soft hover:text-ink" aria-label="All cases">
          Case {c.number}
        </Link>{' '}
        <Link to={`/machines/${encodeURIComponent(c.machine)}`} className="hover:underline">
          {c.machine}
        </Link>
      </h1>
      <span className="text-soft">{[c.site, c.docket?.machine.model].filter(Boolean).join(' · ')}</span>
      {c.cohort && c.cohort.machines > 1 && (
        <Link to={`/cohorts/${c.cohort.id}`} className="underline underline-offset-2">
          {`${c.cohort.machines} machines fail in this way`}
        </Link>
      )}
      <CaseState state={c.state} />
      <Close c={c} />
      {!connected && <span className="text-small text-odd">◆ not live: connecting again</span>}
      <span className="ml-auto text-small text-soft">
        {utc(c.received)} UTC from {c.by} · bag <code className="font-mono text-tiny">{c.bag.slice(0, 12)}</code> · {bytes(c.bagSize)}
        {c.removed && ` · removed from the service ${utc(c.removed)} UTC: its logs cannot be shown`}
      </span>
    </header>
  )
}

function Reading({ progress }: { progress: NonNullable<CaseDetail['progress']> }) {
  const share = progress.total > 0 ? Math.min(100, (100 * progress.done) / progress.total) : null
  return (
    <div className="py-3">
      <div className="text-small">
        {progress.phase}
        {progress.total > 0 && `: ${bytes(progress.done)} of ${bytes(progress.total)}`}
      </div>
      <Progress.Root value={share} className="mt-1 h-2 overflow-hidden bg-(--empty)" aria-label="Reading">
        <Progress.Indicator className="h-full bg-accent" style={{ width: `${share ?? 4}%` }} />
      </Progress.Root>
    </div>
  )
}

function Files({ c }: { c: CaseDetail }) {
  const who = useWho()
  const bag = who.data && who.data.role !== 'see' && !c.removed && (
    <p className="mt-1 text-small">
      <a className="text-accent underline underline-offset-2" href={`/api/v1/cases/${c.number}/bag`} download={`${c.machine}-case-${c.number}.bag.tar.gz`}>
        The bag as it was handed in
      </a>
      <span className="text-soft"> · who takes it is noted</span>
    </p>
  )
  if (!c.docket || c.docket.files.length === 0)
    return (
      <>
        <p className="text-soft">The bag held no logs.</p>
        {bag}
      </>
    )
  return (
    <>
      <ul className="grid grid-cols-2 gap-x-6 text-small">
        {c.docket.files.map((f) => (
          <li key={f.name} className="flex justify-between border-b border-rule py-0.5">
            <span>{f.name}</span>
            <span className="text-soft">
              {f.dialect} · {f.lines} lines, {f.kept} kept{f.cut > 0 && `, ${f.cut} cut`}{f.unparsed > 0 && `, ${f.unparsed} no records`} {f.problem && <span className="text-bad">▲ {f.problem}</span>}
            </span>
          </li>
        ))}
      </ul>
      {c.docket.leftOut?.map((l) => (
        <p key={l.name} className="mt-1 text-small">
          <span className="text-bad">▲ left out</span> {l.name}: <span className="text-soft">{l.why}</span>
        </p>
      ))}
      {bag}
      <p className="mt-1 text-small text-soft">
        {c.docket.masked && 'Masked at the machine: names of people and addresses were replaced before it was handed in. '}
        {c.docket.harmless > 0 && `${c.docket.harmless} records set apart: healthy machines show them too. `}
        {c.docket.usual > 0 && `${c.docket.usual} more: this machine's own successful attempts show them too. `}
        {c.docket.shifts.map((s) => `${s.file} was moved by ${Math.round(s.by)} s to agree with ${s.with}. `)}Knowledge {c.docket.knowledge}{c.docket.site ? `, of this site ${c.docket.site}` : ''}.
      </p>
    </>
  )
}
