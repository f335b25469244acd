import type { ReactNode } from 'react'
import { Link } from 'react-router'

/** What the walks are written in: headings, quotations, commands with what they print, tables, paragraphs. */
export function Markdown({ text }: { text: string }) {
  return <>{blocks(text).map((block, i) => shown(block, i))}</>
}

function blocks(text: string): string[] {
  return text
    .split(/^(```[\s\S]*?^```)$/m)
    .flatMap((part) => (part.startsWith('```') ? [part] : part.split(/\n{2,}/)))
    .map((part) => part.replace(/^\n+|\s+$/g, ''))
    .filter((part) => part !== '')
}

function shown(block: string, key: number): ReactNode {
  if (block.startsWith('```')) return <Command key={key} text={block.replace(/^```\n?|\n?```$/g, '')} />
  if (block.startsWith('# ')) {
    return (
      <h1 key={key} className="mb-2 text-lead font-semibold">
        {block.slice(2)}
      </h1>
    )
  }
  if (block.startsWith('> ')) {
    return (
      <blockquote key={key} className="my-2 border-l-2 border-accent pl-3 text-soft italic">
        {block.replaceAll(/^> ?/gm, '')}
      </blockquote>
    )
  }
  if (block.startsWith('|')) return <Table key={key} lines={block.split('\n')} />
  return (
    <p key={key} className="my-2 max-w-[75ch]">
      {linked(block.replaceAll('\n', ' '))}
    </p>
  )
}

/** A command line stands out from what it prints. */
function Command({ text }: { text: string }) {
  const [first = '', ...rest] = text.split('\n')
  return (
    <pre className="my-2 max-w-[110ch] whitespace-pre-wrap border border-rule bg-sheet px-3 py-2 font-mono text-small leading-snug">
      <span className="font-semibold">{first}</span>
      {rest.length > 0 && `\n${rest.join('\n')}`}
    </pre>
  )
}

function Table({ lines }: { lines: string[] }) {
  const cells = (line: string) => line.replace(/^\||\|$/g, '').split('|').map((c) => c.trim())
  const [head = '', , ...body] = lines
  return (
    <table className="my-3 text-small">
      <thead>
        <tr>
          {cells(head).map((c, i) => (
            <th key={i} scope="col" className="border-b border-rule px-2 py-1 text-left font-semibold">
              {c}
            </th>
          ))}
        </tr>
      </thead>
      <tbody>
        {body.map((line, row) => (
          <tr key={row} className="border-b border-rule">
            {cells(line).map((c, i) => (
              <td key={i} className="px-2 py-0.5">
                {linked(c)}
              </td>
            ))}
          </tr>
        ))}
      </tbody>
    </table>
  )
}

/** Links lead to other walks. */
function linked(text: string): ReactNode[] {
  return text.split(/(\[[^\]]+\]\([^)]+\.md\))/).map((part, i) => {
    const link = /^\[([^\]]+)\]\(([^)]+)\.md\)$/.exec(part)
    return link ? (
      <Link key={i} to={`/help/${link[2]}`} className="underline underline-offset-2">
        {link[1]}
      </Link>
    ) : (
      part
    )
  })
}
