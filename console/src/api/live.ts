import { useQueryClient } from '@tanstack/react-query'
import { useEffect, useState } from 'react'

import type { Case } from './client'

/** Follows changes, of one case or of all, and renews what is shown. */
export function useLive(path: string, seen: (changed: Case) => void): boolean {
  const queries = useQueryClient()
  const [connected, setConnected] = useState(true)
  useEffect(() => {
    const source = new EventSource(path)
    source.onopen = () => {
      setConnected(true)
    }
    source.onerror = () => {
      setConnected(false)
    }
    source.addEventListener('case', (event) => {
      seen(JSON.parse((event as MessageEvent<string>).data) as Case)
    })
    return () => {
      source.close()
    }
  }, [path, queries, seen])
  return connected
}
