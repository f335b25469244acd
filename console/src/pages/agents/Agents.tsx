import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query'
import { useState, type FormEvent } from 'react'

import { api, ask, type Agent } from '../../api/client'
import { Notice } from '../../parts/Notice'
import { Section } from '../../parts/Section'
import { StatusWord } from '../../parts/Status'
import { VirtualList } from '../../parts/VirtualList'
import { utc } from '../../parts/text'

const columns = 'grid grid-cols-[16rem_12rem_11rem_1fr_5rem] gap-x-3 px-4'

/** The processes on machines: when each was heard, what it holds back. */
export function Agents() {
  const list = useQuery({ queryKey: ['agents'], refetchInterval: 10_000, queryFn: () => ask(api.GET('/api/v1/agents')) })
  const rows = list.data?.agents ?? []
  return (
    <main className="flex min-h-0 flex-1 flex-col">
      <header className="border-b border-rule bg-sheet pt-2">
        <div className="flex items-baseline gap-3 px-4">
          <h1 className="text-lead font-semibold">Agents</h1>
          <span className="text-soft">they hand in what fails, and carry out what was approved</span>
        </div>
        <div className="px-4">
          <NewAgent />
          <FromStick />
        </div>
        <div className={`${columns} mt-2 text-tiny text-soft`}>
          {['machine', 'heard (UTC)', 'enrolled', 'holds back', ''].map((h, i) => (
            <span key={i}>{h}</span>
          ))}
        </div>
      </header>
      {list.isPending ? (
        <Notice>Fetching the agents…</Notice>
      ) : list.isLoadingError ? (
        <Notice bad>{list.error.message}</Notice>
      ) : rows.length === 0 ? (
        <Notice>No machine has an agent yet. Make a code above, and enrol with it on the machine.</Notice>
      ) : (
        <VirtualList rows={rows} id={(a: Agent) => String(a.id)} to={(a) => `/machines/${encodeURIComponent(a.machine)}`} columns={columns} more={() => undefined} draw={(a) => <Row a={a} />} aside={(a) => <End a={a} />} />
      )}
    </main>
  )
}

function Row({ a }: { a: Agent }) {
  const held = Object.entries(a.held ?? {})
  return (
    <>
      <span className="truncate font-semibold">{a.machine}</span>
      <StatusWord tone={a.silent ? 'odd' : 'good'}>{`${a.seen ? `${a.silent ? 'silent since ' : ''}${utc(a.seen)}` : 'never'}${a.stick ? ', stick' : ''}`}</StatusWord>
      <span className="truncate text-soft">{`${utc(a.enrolled).slice(0, 10)} by ${a.by}`}</span>
      <span className="truncate">
        {a.copied && <StatusWord tone="bad">{`a copy of its disk ran elsewhere on ${utc(a.copied)}`}</StatusWord>}
        {held.map(([what, problem]) => (
          <StatusWord key={what} tone={problem ? 'bad' : 'good'}>
            {problem ? `${what}: ${problem}` : what}
          </StatusWord>
        ))}
      </span>
      <span />
    </>
  )
}

function End({ a }: { a: Agent }) {
  const client = useQueryClient()
  const end = useMutation({
    mutationFn: async () => {
      const { error, response } = await api.DELETE('/api/v1/agents/{id}', { params: { path: { id: a.id } } })
      if (!response.ok) throw new Error((error as { detail?: string } | undefined)?.detail ?? `the service answered ${response.status}`)
    },
    onSuccess: () => client.invalidateQueries({ queryKey: ['agents'] }),
  })
  return (
    <button
      type="button"
      aria-label={`Turn the agent of ${a.machine} off`}
      title={end.error?.message}
      onClick={() => end.mutate()}
      className={`underline underline-offset-2 ${end.isError ? 'text-bad' : ''}`}
    >
      {end.isError ? '▲ Off' : 'Off'}
    </button>
  )
}

function NewAgent() {
  const [machine, setMachine] = useState('')
  const [site, setSite] = useState('')
  const make = useMutation({ mutationFn: () => ask(api.POST('/api/v1/agents/codes', { body: { machine: machine.trim(), site: site.trim() } })) })
  const submit = (event: FormEvent) => {
    event.preventDefault()
    if (machine.trim()) make.mutate()
  }
  return (
    <Section title="A further one">
      <form onSubmit={submit} className="flex flex-wrap items-baseline gap-3 text-small">
        <input value={machine} onChange={(e) => setMachine(e.target.value)} aria-label="Machine" placeholder="name of the machine" maxLength={200} className="w-56 border border-rule bg-ground px-2 py-0.5" />
        <input value={site} onChange={(e) => setSite(e.target.value)} aria-label="Site" placeholder="site" maxLength={200} className="w-44 border border-rule bg-ground px-2 py-0.5" />
        <button type="submit" disabled={make.isPending} className="bg-accent px-3 py-0.5 text-on-accent">
          Make a code
        </button>
        {make.isError && <span className="text-bad">▲ {make.error.message}</span>}
        {make.data && (
          <span>
            <b className="font-mono">{make.data.code}</b> <span className="text-soft">{`for ${make.data.machine}, once, until ${utc(make.data.expires)}: on the machine, `}</span>
            <code className="font-mono">{`diorthos agent enrol --url ${window.location.origin} --code ${make.data.code}`}</code>
          </span>
        )}
      </form>
    </Section>
  )
}

const field = 'border border-rule bg-ground px-2 py-0.5'

/** Lets a machine in that was started from a stick and shows a code. */
function FromStick() {
  const client = useQueryClient()
  const [code, setCode] = useState('')
  const [machine, setMachine] = useState('')
  const [site, setSite] = useState('')
  const look = useMutation({ mutationFn: (code: string) => ask(api.GET('/api/v1/knocks/{code}', { params: { path: { code } } })) })
  const admit = useMutation({
    mutationFn: () => ask(api.POST('/api/v1/admissions', { body: { code: code.trim(), machine: machine.trim(), site: site.trim() } })),
    onSuccess: () => client.invalidateQueries({ queryKey: ['agents'] }),
  })
  const submit = (event: FormEvent) => {
    event.preventDefault()
    if (!code.trim()) return
    if (look.data && machine.trim()) admit.mutate()
    else look.mutate(code.trim())
  }
  const failed = admit.error ?? look.error
  return (
    <Section title="A machine started from a stick">
      <form onSubmit={submit} className="flex flex-wrap items-baseline gap-3 text-small">
        <input value={code} onChange={(e) => (setCode(e.target.value), look.reset(), admit.reset())} aria-label="Code on its screen" placeholder="code on its screen" maxLength={40} className={`w-44 font-mono ${field}`} />
        {look.data && (
          <>
            <input value={machine} onChange={(e) => setMachine(e.target.value)} aria-label="Which machine it is" placeholder="which machine it is" maxLength={200} className={`w-56 ${field}`} />
            <input value={site} onChange={(e) => setSite(e.target.value)} aria-label="Its site, if it is new" placeholder="its site, if it is new" maxLength={200} className={`w-44 ${field}`} />
          </>
        )}
        <button type="submit" disabled={look.isPending || admit.isPending} className="bg-accent px-3 py-0.5 text-on-accent">
          {look.data ? 'Let it in' : 'Who is it?'}
        </button>
        {failed && <span className="text-bad">▲ {failed.message}</span>}
        {!look.data && !failed && (
          <span className="text-soft">
            on the machine: <code className="font-mono">{`diorthos agent stick --url ${window.location.origin}`}</code>
          </span>
        )}
        {look.data && !admit.data && <span className="basis-full text-soft">{`${look.data.tells}; asks from ${look.data.address} since ${utc(look.data.at)}`}</span>}
        {admit.data && (
          <span className="basis-full">
            <StatusWord tone="good">{`${admit.data.machine} is let in${admit.data.expires ? ` until ${utc(admit.data.expires)}` : ''}; its disk is being looked at`}</StatusWord>
          </span>
        )}
      </form>
    </Section>
  )
}
