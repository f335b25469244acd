import { useQuery } from '@tanstack/react-query'
import { useState, type FormEvent } from 'react'
import { useSearchParams } from 'react-router'

import { api, ask, type Explanation, type Reading } from '../../api/client'
import { Notice } from '../../parts/Notice'
import { percent } from '../../parts/text'

/** What a code means, in any form in which a person may have it. */
export function Codes() {
  const [params, setParams] = useSearchParams()
  const text = params.get('text') ?? ''
  const [draft, setDraft] = useState(text)
  const answer = useQuery({
    queryKey: ['code', text],
    enabled: text !== '',
    queryFn: () => ask(api.GET('/api/v1/codes', { params: { query: { text } } })),
  })
  const submit = (event: FormEvent) => {
    event.preventDefault()
    setParams({ text: draft.trim() })
  }
  return (
    <main className="min-h-0 flex-1 overflow-auto px-4 py-3">
      <form onSubmit={submit} className="flex items-center gap-3">
        <h1 className="text-lead font-semibold">Codes</h1>
        <input value={draft} onChange={(e) => setDraft(e.target.value)} required maxLength={2000} aria-label="Code or sentence" placeholder="0x80070070, -28, 3/11/00, or the whole sentence" className="w-[34rem] border border-rule bg-sheet px-2 py-1 font-mono" />
        <button type="submit" className="bg-accent px-3 py-1 text-on-accent">
          Explain
        </button>
      </form>
      {text === '' ? (
        <p className="mt-3 max-w-[70ch] text-soft">A code as it was passed on: with a digit missing, a letter for a digit, or read aloud. What no family knows is taken for mistyped, and the nearest known codes are shown.</p>
      ) : answer.isPending ? (
        <Notice>One moment…</Notice>
      ) : answer.isLoadingError ? (
        <Notice bad>{answer.error.message}</Notice>
      ) : (
        <Explained e={answer.data} />
      )}
    </main>
  )
}

function Explained({ e }: { e: Explanation }) {
  if (e.taken.length + e.words.length + e.perhaps.length === 0) return <Notice>There is no code in this, and nothing known is near it.</Notice>
  return (
    <div className="mt-3 max-w-[70rem] space-y-4">
      {e.words.map((r) => (
        <Readings key={r.value} title={r.value} list={[r]} />
      ))}
      {e.taken.map((t) => (
        <Readings key={t.value + t.form} title={t.value} note={`taken as ${t.form}`} list={t.readings} />
      ))}
      {e.perhaps.length > 0 && (
        <section>
          <h2 className="font-semibold">Perhaps meant</h2>
          <table className="mt-1 w-full border border-rule bg-sheet">
            <thead className="text-left text-tiny text-soft">
              <tr>
                <th className="px-2 font-normal">code</th>
                <th className="pr-4 text-right font-normal">likely</th>
                <th className="font-normal">family</th>
                <th className="font-normal">meaning</th>
                <th className="font-normal">if</th>
              </tr>
            </thead>
            <tbody>
              {e.perhaps.map((s) => (
                <tr key={s.family + s.value} className="border-t border-rule">
                  <td className="px-2 py-1 font-mono font-semibold">{s.value}</td>
                  <td className="pr-4 text-right">{percent(s.share)}</td>
                  <td className="pr-4 text-soft">{s.title}</td>
                  <td className="pr-4">
                    {s.name} {s.text}
                  </td>
                  <td className="text-small">{s.slip}</td>
                </tr>
              ))}
            </tbody>
          </table>
        </section>
      )}
    </div>
  )
}

function Readings({ title, note, list }: { title: string; note?: string; list: Reading[] }) {
  return (
    <section>
      <h2>
        <span className="font-mono font-semibold">{title}</span> <span className="text-small text-soft">{note}</span>
      </h2>
      {list.length === 0 && <p className="text-soft">No family knows it.</p>}
      <ul className="mt-1 border border-rule bg-sheet">
        {list.map((r) => (
          <li key={r.family} className="grid grid-cols-[15rem_13rem_1fr] gap-x-4 border-t border-rule px-2 py-1 first:border-t-0">
            <span className="text-soft">{r.title}</span>
            <span className="font-mono text-small break-words">
              {r.value} {r.name}
            </span>
            <span>
              {r.text}
              {r.parts && r.parts.length > 0 && (
                <span className="block text-small text-soft">{r.parts.map((p) => `${p.name} ${p.value}${p.meaning ? ` (${p.meaning})` : ''}`).join(' · ')}</span>
              )}
            </span>
          </li>
        ))}
      </ul>
    </section>
  )
}
