import { useQuery } from '@tanstack/react-query'
import { RadioGroup } from 'radix-ui'
import { useState, type FormEvent, type ReactNode } from 'react'
import { Link, useSearchParams } from 'react-router'

import { api, ask, type Answer } from '../../api/client'
import { Notice } from '../../parts/Notice'
import { Section } from '../../parts/Section'
import { percent } from '../../parts/text'
import { Why } from '../case/Why'
import { walkOf } from '../help/pages'
import { OpenCall } from './OpenCall'

type When = '' | 'start' | 'attempt'

const times: { value: When; says: string }[] = [
  { value: '', says: 'not known' },
  { value: 'start', says: 'at the start' },
  { value: 'attempt', says: 'during an install or update' },
]

/** The front door: what words or a code from a screen point to. */
export function Ask() {
  const [params, setParams] = useSearchParams()
  const text = params.get('text') ?? ''
  const when = (params.get('when') ?? '') as When
  const answers = params.getAll('answer')
  const [draft, setDraft] = useState(text)
  const [shown, setShown] = useState(text)
  if (shown !== text) {
    setShown(text) // asked from elsewhere on the page
    setDraft(text)
  }
  const answer = useQuery({
    queryKey: ['ask', text, when, answers],
    enabled: text !== '',
    queryFn: () => ask(api.GET('/api/v1/ask', { params: { query: { text, when: when || undefined, answer: answers } } })),
    placeholderData: (before) => before,
  })
  const go = (next: { text?: string; when?: When; answers?: string[] }) => {
    const to = new URLSearchParams({ text: next.text ?? text })
    if (next.when ?? when) to.set('when', next.when ?? when)
    for (const a of next.answers ?? answers) to.append('answer', a)
    setParams(to)
  }
  const submit = (event: FormEvent) => {
    event.preventDefault()
    go({ text: draft.trim(), answers: [] })
  }
  return (
    <main className="min-h-0 flex-1 overflow-auto px-4 py-3">
      <form onSubmit={submit} className="max-w-[78rem]">
        <label htmlFor="words" className="text-lead font-semibold">
          What stands on the screen?
        </label>
        <div className="mt-1 flex items-start gap-3">
          <textarea id="words" value={draft} onChange={(e) => setDraft(e.target.value)} onKeyDown={(e) => e.key === 'Enter' && !e.shiftKey && (e.preventDefault(), e.currentTarget.form?.requestSubmit())} required maxLength={8000} rows={2} placeholder="words or a code, whole or in parts, as they were read aloud" className="w-[42rem] border border-rule bg-sheet px-2 py-1 font-mono" />
          <button type="submit" className="bg-accent px-3 py-1 text-on-accent">
            Ask
          </button>
        </div>
        <RadioGroup.Root value={when} onValueChange={(v) => (text ? go({ when: v as When }) : setParams(v ? { when: v } : {}))} aria-label="When it is shown" className="mt-2 flex items-center gap-4 text-small">
          <span className="text-soft">It is shown</span>
          {times.map((t) => (
            <label key={t.value} className="flex items-center gap-1.5">
              <RadioGroup.Item value={t.value} className="flex size-3.5 items-center justify-center rounded-full border border-soft">
                <RadioGroup.Indicator className="size-1.5 rounded-full bg-accent" />
              </RadioGroup.Item>
              {t.says}
            </label>
          ))}
        </RadioGroup.Root>
      </form>
      {text === '' ? (
        <p className="mt-4 max-w-[70ch] text-soft">A message as a colleague reads it out, garbled or in parts, or a code. You are told which message it is, what it points to, the one thing to look at first, and what to do. Words alone prove nothing: hand in evidence for a case.</p>
      ) : answer.isLoadingError ? (
        <Notice bad>{answer.error.message}</Notice>
      ) : answer.data === undefined ? (
        <Notice>One moment…</Notice>
      ) : (
        <Answered a={answer.data} open={<OpenCall words={text} when={when} answers={answers} />} choose={(check, n) => go({ answers: [...answers, `${check}=${n}`] })} forget={() => go({ answers: [] })} />
      )}
    </main>
  )
}

function Answered({ a, choose, forget, open }: { a: Answer; choose: (check: string, n: number) => void; forget: () => void; open: ReactNode }) {
  if (a.messages.length + a.why.length === 0) {
    return (
      <div className="mt-2 max-w-[78rem]">
        <Notice>No message and no cause is known that these words could mean. Hand in evidence: a bag that was gathered from the machine, or from its disk.</Notice>
        {open}
      </div>
    )
  }
  const next = a.next[0]
  return (
    <div className="mt-2 max-w-[78rem]">
      {a.messages.length > 0 && (
        <Section title="Which message">
          <ul className="space-y-1">
            {a.messages.slice(0, 3).map((m) => (
              <li key={m.message.id} className="grid grid-cols-[3.5rem_1fr] gap-x-3">
                <span className="text-right font-semibold whitespace-nowrap">{percent(m.share)}</span>
                <span>
                  <span className="font-mono text-small break-words">{m.message.says.replaceAll(/\{\w+\}/g, '…')}</span>
                  <span className="block text-small text-soft">
                    {m.message.by}, at {m.message.at}
                    {m.message.code && `, code ${m.message.code}`}
                  </span>
                </span>
              </li>
            ))}
          </ul>
        </Section>
      )}
      {a.given.length > 0 && (
        <Section title="Answered">
          <ul>
            {a.given.map((g) => (
              <li key={g.check}>
                ✓ {g.title} <strong>{g.answer}</strong>
              </li>
            ))}
          </ul>
          <button type="button" onClick={forget} className="text-small underline underline-offset-2">
            forget these answers
          </button>
        </Section>
      )}
      <Section title="What it points to">{a.why.length === 0 ? <p>No cause that is known goes with this message.</p> : <Why findings={a.why} />}</Section>
      {next && (
        <Section title="Look at this first">
          <h3 className="font-semibold">{next.title}</h3>
          <p>
            <code className="font-mono text-small">{next.do}</code> <span className="text-small text-soft">about {next.minutes} min</span>
          </p>
          <div className="mt-2 flex flex-wrap gap-2">
            {next.answers.map((o) => (
              <button key={o.says} type="button" onClick={() => choose(next.check, o.number)} className="border border-rule bg-sheet px-2 py-1 text-left">
                {o.says}
                <span className="block text-small text-soft">
                  then {o.cause}, {percent(o.probability)}
                </span>
              </button>
            ))}
          </div>
        </Section>
      )}
      {a.toDo.length > 0 && (
        <Section title="What to do">
          <ol className="space-y-2">
            {a.toDo.slice(0, 5).map((r) => (
              <li key={r.remedy}>
                <span className="font-semibold">
                  {r.number} {r.title}
                </span>{' '}
                <span className="text-small text-soft">
                  {r.invasive} · {r.by === 'hands' ? 'by hand' : 'by Diorthos'} · about {r.minutes} min
                </span>
                <p className="text-small text-soft">{r.why}</p>
                {r.steps && (
                  <ol className="ml-5 list-decimal text-small">
                    {r.steps.map((s) => (
                      <li key={s.do}>{s.do}</li>
                    ))}
                  </ol>
                )}
              </li>
            ))}
          </ol>
        </Section>
      )}
      {a.jobs.length > 0 && (
        <Section title="Jobs like this, walked to the proof">
          <ul>
            {a.jobs.slice(0, 3).map((j) => (
              <li key={j.number}>
                <Link to={walkOf(j.number)} className="underline underline-offset-2">
                  {j.title}
                </Link>{' '}
                <span className="text-small text-soft">“{j.said}”</span>
              </li>
            ))}
          </ul>
        </Section>
      )}
      {open}
    </div>
  )
}
