import type { ComponentType } from 'react'
import { useParams } from 'react-router'

import { Notice } from './Notice'

/** A page of what has a number, which stands in the address; another word there is said to lead nowhere. */
export function ByNumber({ what, Page }: { what: string; Page: ComponentType<{ number: number }> }) {
  const text = useParams().number ?? ''
  if (!/^[1-9]\d{0,14}$/.test(text)) return <Notice bad>{`There is no ${what} “${text}”.`}</Notice>
  return <Page number={Number(text)} />
}
