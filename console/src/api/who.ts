import { useQuery } from '@tanstack/react-query'

import { api, ask } from './client'

/** Who is signed in here. */
export const useWho = () => useQuery({ queryKey: ['who'], queryFn: () => ask(api.GET('/api/v1/session')) })
