import { useMutation } from '@tanstack/react-query'
import { useState } from 'react'
import { useNavigate } from 'react-router'

import { api, ask } from '../../api/client'
import { Section } from '../../parts/Section'

/** Begins a case with the words that were asked about; evidence of the machine joins it later. */
export function OpenCall({ words, when, answers }: { words: string; when: '' | 'start' | 'attempt'; answers: string[] }) {
  const go = useNavigate()
  const [machine, setMachine] = useState('')
  const [site, setSite] = useState('')
  const open = useMutation({
    mutationFn: () => ask(api.POST('/api/v1/calls', { body: { machine: machine.trim(), site: site.trim() || undefined, words, when: when || undefined, answers: given(answers) } })),
    onSuccess: (c) => go(`/cases/${c.number}`),
  })
  return (
    <Section title="Keep it as a case">
      <form
        className="flex flex-wrap items-end gap-3 text-small"
        onSubmit={(e) => {
          e.preventDefault()
          open.mutate()
        }}
      >
        <label>
          <span className="block text-soft">Machine</span>
          <input value={machine} onChange={(e) => setMachine(e.target.value)} required maxLength={200} className="w-56 border border-rule bg-sheet px-2 py-1" />
        </label>
        <label>
          <span className="block text-soft">Site, if it is not known yet</span>
          <input value={site} onChange={(e) => setSite(e.target.value)} maxLength={200} className="w-48 border border-rule bg-sheet px-2 py-1" />
        </label>
        <button type="submit" disabled={open.isPending} className="bg-accent px-3 py-1 text-on-accent">
          Begin a case
        </button>
        <span className="text-soft">A bag of this machine that is handed in later joins it.</span>
      </form>
      {open.isError && <p className="mt-1 text-small text-bad">▲ {open.error.message}</p>}
    </Section>
  )
}

function given(answers: string[]) {
  const list: Record<string, number> = {}
  for (const a of answers) {
    const [check, n] = a.split('=')
    if (check && n) list[check] = Number(n)
  }
  return list
}
