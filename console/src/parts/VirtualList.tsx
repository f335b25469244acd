import { useVirtualizer } from '@tanstack/react-virtual'
import { useEffect, useRef, type ReactNode } from 'react'
import { useNavigate } from 'react-router'

const rowHeight = 34

interface Props<Row> {
  rows: Row[]
  id: (row: Row) => string | number
  to: (row: Row) => string
  columns: string
  more: () => void
  draw: (row: Row) => ReactNode
  /** What stands at the end of a row and does not lead there, such as a button. */
  aside?: (row: Row) => ReactNode
}

/** Rows that lead somewhere. Draws only those in sight, and asks for more at the end. */
export function VirtualList<Row>({ rows, id, to, columns, more, draw, aside }: Props<Row>) {
  const box = useRef<HTMLDivElement>(null)
  const go = useNavigate()
  // eslint-disable-next-line react-hooks/incompatible-library -- the compiler is not used
  const view = useVirtualizer({ count: rows.length, getScrollElement: () => box.current, estimateSize: () => rowHeight, overscan: 10 })
  const last = view.getVirtualItems().at(-1)?.index ?? 0
  useEffect(() => {
    if (last >= rows.length - 1) more()
  }, [last, rows.length, more])
  return (
    <div ref={box} className="min-h-0 flex-1 overflow-auto bg-sheet">
      <ul className="relative" style={{ height: view.getTotalSize() }}>
        {view.getVirtualItems().map((item) => {
          const row = rows[item.index]
          if (!row) return null
          return (
            <li key={id(row)} className="absolute inset-x-0 border-b border-rule" style={{ top: item.start, height: rowHeight }}>
              <a
                href={to(row)}
                onClick={(e) => {
                  if (e.metaKey || e.ctrlKey) return
                  e.preventDefault()
                  void go(to(row))
                }}
                className={`${columns} h-full items-center whitespace-nowrap hover:bg-ground focus-visible:bg-ground`}
              >
                {draw(row)}
              </a>
              {aside && <span className="absolute inset-y-0 right-4 flex items-center">{aside(row)}</span>}
            </li>
          )
        })}
      </ul>
    </div>
  )
}
