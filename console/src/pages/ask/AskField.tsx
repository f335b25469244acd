import { useState, type FormEvent } from 'react'
import { useNavigate } from 'react-router'

/** The first field of every page: words or a code from a screen. */
export function AskField() {
  const [draft, setDraft] = useState('')
  const navigate = useNavigate()
  const submit = (event: FormEvent) => {
    event.preventDefault()
    const text = draft.trim()
    void navigate(text ? `/ask?${new URLSearchParams({ text }).toString()}` : '/ask')
    setDraft('')
  }
  return (
    <form onSubmit={submit} className="flex min-w-0 flex-1 items-center gap-2">
      <input value={draft} onChange={(e) => setDraft(e.target.value)} maxLength={8000} aria-label="Words or a code from a screen" placeholder="What stands on the screen? Words or a code" className="w-full max-w-[34rem] border border-rule bg-ground px-2 py-0.5 text-small" />
      <button type="submit" className="text-small underline underline-offset-2">
        Ask
      </button>
    </form>
  )
}
