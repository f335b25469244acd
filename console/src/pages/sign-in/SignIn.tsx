import { useQuery } from '@tanstack/react-query'
import { useState, type FormEvent } from 'react'

import { api, ask } from '../../api/client'

/** Asks for a token and turns it into a session, or leads to the site's own sign-on. */
export function SignIn({ done }: { done: () => void }) {
  const [problem, setProblem] = useState('')
  const ways = useQuery({ queryKey: ['ways'], queryFn: () => ask(api.GET('/api/v1/sign-in-ways')) })
  const submit = async (event: FormEvent<HTMLFormElement>) => {
    event.preventDefault()
    const token = String(new FormData(event.currentTarget).get('token')).trim()
    try {
      await ask(api.POST('/api/v1/session', { body: { token } }))
      done()
    } catch (e) {
      setProblem(e instanceof Error ? e.message : String(e))
    }
  }
  return (
    <main className="mx-auto mt-[18vh] w-[26rem] border border-rule bg-sheet p-6">
      <h1 className="text-title font-semibold">Diorthos</h1>
      <p className="mt-1 text-soft">Why an install, upgrade or update failed, and how it is put right.</p>
      {ways.data?.signOn && (
        <p className="mt-5 border-b border-rule pb-5">
          <a href="/api/v1/oidc/begin" className="bg-accent px-4 py-1.5 text-on-accent">
            Sign in with your own account
          </a>
          <span className="mt-3 block truncate text-small text-soft">{`at ${ways.data.at ?? ''}`}</span>
        </p>
      )}
      <form onSubmit={(e) => void submit(e)} className="mt-5">
        <label htmlFor="token" className="block text-small">
          Your token
        </label>
        <input id="token" name="token" type="password" required minLength={8} autoComplete="current-password" className="mt-1 w-full border border-rule bg-ground px-2 py-1.5 font-mono" />
        {problem && (
          <p role="alert" className="mt-2 text-small text-bad">
            ▲ {problem}
          </p>
        )}
        <button type="submit" className="mt-4 bg-accent px-4 py-1.5 text-on-accent">
          Sign in
        </button>
      </form>
    </main>
  )
}
