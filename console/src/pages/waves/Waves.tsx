import { useState, type FormEvent } from 'react'
import { Link } from 'react-router'

import { Notice } from '../../parts/Notice'
import { Section } from '../../parts/Section'
import { StatusWord } from '../../parts/Status'
import { utc } from '../../parts/text'
import { Lanes } from './Lanes'
import { useRollouts, useSetSiteRule, useSiteRules } from './queries'
import { toneOf } from './words'

/** Repairs that go round in waves, and when sites let orders be begun. */
export function Waves() {
  const list = useRollouts()
  if (list.isPending) return <Notice>Fetching what goes round…</Notice>
  if (!list.data) return <Notice bad>{list.error?.message}</Notice>
  return (
    <main className="min-h-0 flex-1 overflow-auto px-4 pb-16">
      <h1 className="mt-3 text-lead font-semibold">Waves</h1>
      {list.isError && <Notice bad>{`Not up to date: ${list.error.message}`}</Notice>}
      <Section title="Repairs that go round">
        {list.data.rollouts.length === 0 ? (
          <p className="text-soft">
            None yet. A repair that was proven on one machine can be offered to those that fail in the same way, on the page of their{' '}
            <Link to="/cohorts" className="underline underline-offset-2">
              cohort
            </Link>
            .
          </p>
        ) : (
          <ul>
            {list.data.rollouts.map((r) => (
              <li key={r.id} className="grid grid-cols-[1fr_18rem_22rem] items-center gap-x-4 border-b border-rule py-1.5 last:border-0">
                <span className="min-w-0">
                  <Link to={`/waves/${r.id}`} className="block truncate font-semibold underline underline-offset-2">
                    {r.title}
                  </Link>
                  <span className="text-small text-soft">{`begun ${utc(r.begun).slice(0, 16)} by ${r.by}`}</span>
                </span>
                <span className="min-w-0">
                  <StatusWord tone={toneOf[r.state]}>{r.state}</StatusWord> <span className="text-small text-soft">{`wave ${r.wave} of ${r.waves}`}</span>
                  {r.why && (
                    <span className="block truncate text-small text-soft" title={r.why}>
                      {r.why}
                    </span>
                  )}
                </span>
                <Lanes tally={r.tally} />
              </li>
            ))}
          </ul>
        )}
      </Section>
      <Section title="When orders are begun">
        <SiteRules />
      </Section>
    </main>
  )
}

function SiteRules() {
  const rules = useSiteRules()
  if (rules.isPending) return <p className="text-soft">Fetching the rules…</p>
  if (!rules.data) return <p className="text-bad">▲ {rules.error?.message}</p>
  return (
    <>
      {rules.data.rules.length === 0 ? (
        <p className="text-soft">At any hour, on any number of machines at once: no site has a rule.</p>
      ) : (
        <table className="w-full max-w-[60rem]">
          <thead className="text-left text-tiny text-soft">
            <tr>
              <th className="font-normal">site</th>
              <th className="font-normal">machines</th>
              <th className="font-normal">orders are begun</th>
              <th className="font-normal">at once</th>
              <th className="font-normal">outbreaks are held</th>
              <th className="font-normal">by</th>
            </tr>
          </thead>
          <tbody>
            {rules.data.rules.map((r) => (
              <tr key={r.site} className="border-t border-rule">
                <td className="py-1 font-semibold">{r.site}</td>
                <td>{r.machines ? r.machines : <StatusWord tone="odd">none: is the name right?</StatusWord>}</td>
                <td>{r.opens ? `${r.opens} to ${r.closes} ${r.zone}` : 'at any hour'}</td>
                <td>{r.atOnce ? r.atOnce : 'any number'}</td>
                <td>{r.holds ? 'at once' : 'by hand'}</td>
                <td className="text-soft">{r.by}</td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
      <RuleForm />
    </>
  )
}

function RuleForm() {
  const empty = { site: '', opens: '', closes: '', zone: 'UTC', atOnce: '' }
  const [holds, setHolds] = useState(false)
  const [rule, setRule] = useState(empty)
  const set = useSetSiteRule(() => setRule(empty))
  const field = (name: keyof typeof empty, label: string, width: string, placeholder: string) => (
    <label className="text-small">
      <span className="mr-1 text-soft">{label}</span>
      <input value={rule[name]} onChange={(e) => setRule({ ...rule, [name]: e.target.value })} placeholder={placeholder} className={`${width} border border-rule bg-sheet px-2 py-0.5`} />
    </label>
  )
  const submit = (event: FormEvent) => {
    event.preventDefault()
    if (rule.site.trim()) set.mutate({ site: rule.site.trim(), opens: rule.opens, closes: rule.closes, zone: rule.zone, atOnce: Number(rule.atOnce) || 0, holds })
  }
  return (
    <form onSubmit={submit} className="mt-2 flex flex-wrap items-baseline gap-3">
      {field('site', 'site', 'w-44', 'Lerrick terminal')}
      {field('opens', 'from', 'w-16', '20:00')}
      {field('closes', 'to', 'w-16', '05:00')}
      {field('zone', 'zone', 'w-32', 'UTC')}
      {field('atOnce', 'at once', 'w-16', 'any')}
      <label className="text-small text-soft">
        <input type="checkbox" checked={holds} onChange={(e) => setHolds(e.target.checked)} className="mr-1 align-middle" />
        hold back at once what an outbreak points to
      </label>
      <button type="submit" disabled={set.isPending} className="border border-rule bg-sheet px-3 py-0.5">
        Set the rule
      </button>
      {set.isError && <span className="text-small text-bad">▲ {set.error.message}</span>}
    </form>
  )
}
