import type { Finding } from '../api/client'
import { LogAt } from './LogAt'
import { StatusWord, type Tone } from './Status'

/** What speaks for a cause, or against it, each with its place. */
export function EvidenceList({ list, tone, word }: { list: Finding['for']; tone: Tone; word: string }) {
  return list.map((e, i) => (
    <li key={`${word}${i}`} className="grid grid-cols-[4.2rem_1fr] gap-x-2">
      <StatusWord tone={tone}>{word}</StatusWord>
      {e.place ? (
        <LogAt place={e.place}>
          <span className="font-mono text-tiny break-words">{e.text}</span>
          {e.means && <span className="block font-mono text-tiny text-soft">means: {e.means}</span>}
        </LogAt>
      ) : (
        <span className="min-w-0">{e.text}</span>
      )}
    </li>
  ))
}
