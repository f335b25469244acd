import type { State } from '../../api/client'
import { StatusWord } from '../../parts/Status'

/** The services, each beside what the release ships; what differs comes first. */
export function Services({ list }: { list: NonNullable<State['services']> }) {
  return (
    <table className="w-full text-small">
      <thead className="text-left text-tiny text-soft">
        <tr>
          {['service', 'start type', 'shipped', 'now', 'needs', ''].map((h) => (
            <th key={h} scope="col" className="font-normal">
              {h}
            </th>
          ))}
        </tr>
      </thead>
      <tbody>
        {list
          .toSorted((a, b) => Number(Boolean(b.fault)) - Number(Boolean(a.fault)))
          .map((s) => (
            <tr key={s.name} className="border-t border-rule">
              <td>{s.name}</td>
              <td>{s.start}</td>
              <td className="text-soft">{s.shipped ?? `by ${s.program ?? 'nobody known'}`}</td>
              <td>{s.running ? 'running' : 'stopped'}</td>
              <td className="text-soft">{s.needs?.join(', ')}</td>
              <td>
                {s.fault && <StatusWord tone="bad">{s.broken ?? (s.missing ? 'not there' : 'not as shipped')}</StatusWord>} {s.update && <span className="text-soft">updates depend on it</span>}
              </td>
            </tr>
          ))}
      </tbody>
    </table>
  )
}
