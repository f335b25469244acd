import { useQueryClient } from '@tanstack/react-query'
import { useEffect, useState } from 'react'

import { api, type Case } from './client'

/** How long to wait before a stream that was refused is asked for again. */
const pause = 5_000

/** Follows changes, of one case or of all. Missed is called when changes may have been missed. */
export function useLive(path: string, seen: (changed: Case) => void, missed: () => void): boolean {
  const queries = useQueryClient()
  const [connected, setConnected] = useState(true)
  useEffect(() => {
    let source: EventSource | undefined
    let timer: number | undefined
    let broken = false
    const open = () => {
      source = new EventSource(path)
      source.onopen = () => {
        setConnected(true)
        if (broken) missed()
        broken = false
      }
      source.onerror = () => {
        setConnected(false)
        broken = true
        if (source?.readyState === EventSource.CLOSED) void refused()
      }
      source.addEventListener('case', (event) => {
        seen(JSON.parse((event as MessageEvent<string>).data) as Case)
      })
      source.addEventListener('missed', missed)
    }
    // A refusal ends the stream for good. Whoever is signed out has to sign in
    // again: asking who that is brings the sign-in. Else it is tried once more.
    const refused = async () => {
      const { response } = await api.GET('/api/v1/session')
      if (response.status === 401) await queries.invalidateQueries({ queryKey: ['who'] })
      else timer = window.setTimeout(open, pause)
    }
    open()
    return () => {
      window.clearTimeout(timer)
      source?.close()
    }
  }, [path, queries, seen, missed])
  return connected
}
