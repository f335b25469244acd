import { useMutation, useQueryClient } from '@tanstack/react-query'
import { Dialog } from 'radix-ui'
import { useState, type FormEvent } from 'react'

import { api, ask, type CaseDetail } from '../../api/client'

/** Closes a case with what helped, or opens it again. */
export function Close({ c }: { c: CaseDetail }) {
  const [open, setOpen] = useState(false)
  const [note, setNote] = useState('')
  const client = useQueryClient()
  const closing = c.state !== 'closed'
  const change = useMutation({
    mutationFn: () => ask(api.PATCH('/api/v1/cases/{number}', { params: { path: { number: c.number } }, body: { state: closing ? 'closed' : 'open', note: note.trim() } })),
    onSuccess: async () => {
      setOpen(false)
      setNote('')
      await client.invalidateQueries()
    },
  })
  if (!['open', 'healthy', 'closed'].includes(c.state)) return null
  const submit = (event: FormEvent) => {
    event.preventDefault()
    change.mutate()
  }
  return (
    <Dialog.Root open={open} onOpenChange={setOpen}>
      <Dialog.Trigger className="border border-rule bg-sheet px-2 py-0.5 text-small">{closing ? 'Close the case' : 'Open it again'}</Dialog.Trigger>
      <Dialog.Portal>
        <Dialog.Overlay className="fixed inset-0 bg-ink/30" />
        <Dialog.Content aria-describedby={undefined} className="fixed top-1/4 left-1/2 w-[32rem] -translate-x-1/2 border border-ink bg-sheet p-4">
          <Dialog.Title className="font-semibold">{closing ? `Close case ${c.number}` : `Open case ${c.number} again`}</Dialog.Title>
          <form onSubmit={submit} className="mt-2">
            <label htmlFor="note" className="text-small text-soft">
              {closing ? 'What helped?' : 'Why?'}
            </label>
            <textarea id="note" value={note} onChange={(e) => setNote(e.target.value)} maxLength={2000} rows={3} className="mt-1 w-full border border-rule bg-ground px-2 py-1" />
            {change.isError && <p className="text-small text-bad">▲ {change.error.message}</p>}
            <div className="mt-2 flex justify-end gap-3">
              <Dialog.Close className="text-small underline underline-offset-2">Leave it</Dialog.Close>
              <button type="submit" disabled={change.isPending} className="bg-accent px-3 py-1 text-on-accent">
                {closing ? 'Close' : 'Open'}
              </button>
            </div>
          </form>
        </Dialog.Content>
      </Dialog.Portal>
    </Dialog.Root>
  )
}
