import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query'
import { useState, type FormEvent } from 'react'

import { api, ask, type Person, type Token } from '../../api/client'
import { Notice } from '../../parts/Notice'
import { Section } from '../../parts/Section'
import { utc } from '../../parts/text'

const roles: Person['role'][] = ['see', 'work', 'approve', 'administer']

const may: Record<Person['role'], string> = {
  see: 'looks at cases and machines',
  work: 'hands in, climbs, closes',
  approve: 'agrees to what disrupts',
  administer: 'people, tokens, audit',
}

/** Who may use the service, with their tokens and browsers. */
export function People() {
  const list = useQuery({ queryKey: ['people'], queryFn: () => ask(api.GET('/api/v1/people')) })
  if (list.isPending) return <Notice>Fetching the people…</Notice>
  if (list.isLoadingError) return <Notice bad>{list.error.message}</Notice>
  return (
    <main className="min-h-0 flex-1 overflow-auto">
      <div className="mx-auto max-w-[78rem] px-4 pb-16">
        <h1 className="mt-3 text-lead font-semibold">People</h1>
        {list.data.people.map((p) => (
          <OnePerson key={p.name} p={p} />
        ))}
        <Section title="Somebody new">
          <NewPerson />
        </Section>
      </div>
    </main>
  )
}

function useChange<T>(change: (wish: T) => Promise<unknown>, done?: () => void) {
  const client = useQueryClient()
  return useMutation({
    mutationFn: change,
    onSuccess: async () => {
      done?.()
      await client.invalidateQueries({ queryKey: ['people'] })
    },
  })
}

function OnePerson({ p }: { p: Person }) {
  const change = useChange((body: { role?: Person['role']; sites?: string[]; ended?: boolean }) => ask(api.PUT('/api/v1/people/{name}', { params: { path: { name: p.name } }, body })))
  const [sites, setSites] = useState(p.sites.join(', '))
  const wanted = sites
    .split(',')
    .map((s) => s.trim())
    .filter(Boolean)
  return (
    <Section title={p.name}>
      <div className="flex flex-wrap items-center gap-4 text-small">
        <label>
          role{' '}
          <select value={p.role} disabled={change.isPending || !!p.ended} onChange={(e) => change.mutate({ role: e.target.value as Person['role'] })} className="border border-rule bg-sheet px-2 py-1">
            {roles.map((r) => (
              <option key={r}>{r}</option>
            ))}
          </select>
        </label>
        <span className="text-soft">{may[p.role]}</span>
        <label>
          sites{' '}
          <input value={sites} onChange={(e) => setSites(e.target.value)} placeholder="all" className="w-64 border border-rule bg-sheet px-2 py-1" />
        </label>
        {wanted.join() !== p.sites.join() && (
          <button type="button" onClick={() => change.mutate({ sites: wanted })} className="border border-rule bg-sheet px-2 py-0.5">
            Set the sites
          </button>
        )}
        {p.ended ? <span className="text-odd">◆ ended {utc(p.ended)}</span> : null}
        <button type="button" onClick={() => change.mutate({ ended: !p.ended })} className="border border-rule bg-sheet px-2 py-0.5">
          {p.ended ? 'Let in again' : 'End'}
        </button>
      </div>
      {change.isError && <p className="text-small text-bad">▲ {change.error.message}</p>}
      <ul className="mt-1 text-small">
        {p.tokens.map((t) => (
          <li key={t.id} className="grid grid-cols-[4.5rem_14rem_1fr_5rem] gap-x-3">
            <span className="text-soft">token {t.id}</span>
            <span className="truncate">{t.name}</span>
            <span className="text-soft">{tokenState(t)}</span>
            {!t.ended && <End what={`token ${t.id}`} path="/api/v1/tokens/{id}" id={t.id} />}
          </li>
        ))}
        {p.sessions.map((s) => (
          <li key={s.id} className="grid grid-cols-[4.5rem_14rem_1fr_5rem] gap-x-3">
            <span className="text-soft">browser</span>
            <span>from {s.address}</span>
            <span className="text-soft">
              since {utc(s.created)}, until {utc(s.expires)}
            </span>
            <End what={`the browser at ${s.address}`} path="/api/v1/sessions/{id}" id={s.id} />
          </li>
        ))}
      </ul>
      {!p.ended && <NewToken name={p.name} />}
      <p className="mt-1 text-small">
        <a className="text-accent underline underline-offset-2" href={`/api/v1/people/${encodeURIComponent(p.name)}/export`} download={`${p.name}.tar.gz`}>
          Everything that is kept of {p.name}
        </a>
      </p>
    </Section>
  )
}

function End({ what, path, id }: { what: string; path: '/api/v1/tokens/{id}' | '/api/v1/sessions/{id}'; id: number }) {
  const end = useChange(async () => {
    const { error, response } = await api.DELETE(path, { params: { path: { id } } })
    if (!response.ok) throw new Error((error as { detail?: string } | undefined)?.detail ?? `the service answered ${response.status}`)
  })
  return (
    <button type="button" aria-label={`End ${what}`} title={end.error?.message} onClick={() => end.mutate(undefined)} className={`justify-self-end underline underline-offset-2 ${end.isError ? 'text-bad' : ''}`}>
      {end.isError ? '▲ End' : 'End'}
    </button>
  )
}

function tokenState(t: Token) {
  if (t.ended) return `ended ${utc(t.ended)}`
  const used = t.used ? `used last ${utc(t.used)}` : 'never used'
  return t.expires ? `${used}, expires ${utc(t.expires)}` : used
}

function NewToken({ name }: { name: string }) {
  const [label, setLabel] = useState('')
  const [secret, setSecret] = useState('')
  const add = useChange(
    async (wish: string) => {
      const made = await ask(api.POST('/api/v1/people/{name}/tokens', { params: { path: { name } }, body: { name: wish, days: 365 } }))
      setSecret(made.secret)
    },
    () => setLabel(''),
  )
  const submit = (e: FormEvent) => {
    e.preventDefault()
    add.mutate(label.trim())
  }
  return (
    <form onSubmit={submit} className="mt-1 flex items-center gap-3 text-small">
      <input value={label} onChange={(e) => setLabel(e.target.value)} required maxLength={80} aria-label={`What a token of ${name} is for`} placeholder="what it is for" className="w-44 border border-rule bg-sheet px-2 py-0.5" />
      <button type="submit" disabled={add.isPending} className="border border-rule bg-sheet px-2 py-0.5">
        Further token, for a year
      </button>
      {add.isError && <span className="text-bad">▲ {add.error.message}</span>}
      {secret && (
        <span>
          shown once: <code className="bg-good-wash px-1 font-mono">{secret}</code>
        </span>
      )}
    </form>
  )
}

function NewPerson() {
  const [name, setName] = useState('')
  const [role, setRole] = useState<Person['role']>('work')
  const add = useChange(
    () => ask(api.PUT('/api/v1/people/{name}', { params: { path: { name: name.trim() } }, body: { role } })),
    () => setName(''),
  )
  const submit = (e: FormEvent) => {
    e.preventDefault()
    add.mutate(undefined)
  }
  return (
    <form onSubmit={submit} className="flex items-center gap-3 text-small">
      <input value={name} onChange={(e) => setName(e.target.value)} required maxLength={80} aria-label="Name" placeholder="name" className="w-64 border border-rule bg-sheet px-2 py-1" />
      <select value={role} onChange={(e) => setRole(e.target.value as Person['role'])} aria-label="Role of somebody new" className="border border-rule bg-sheet px-2 py-1">
        {roles.map((r) => (
          <option key={r}>{r}</option>
        ))}
      </select>
      <span className="text-soft">{may[role]}</span>
      <button type="submit" disabled={add.isPending} className="bg-accent px-3 py-1 text-on-accent">
        Add
      </button>
      {add.isError && <span className="text-bad">▲ {add.error.message}</span>}
    </form>
  )
}
