import type { Docket } from '../../api/client'
import { percent } from '../../parts/text'

/** What to look at next, the most telling first, and what each answer would mean. */
export function NextChecks({ list }: { list: Docket['settle'] }) {
  return (
    <ol className="space-y-2">
      {list.slice(0, 4).map((s) => (
        <li key={s.check} className="grid grid-cols-[1fr_24rem] gap-x-6">
          <div>
            <h3 className="font-semibold">{s.title}</h3>
            <code className="font-mono text-tiny">{s.do}</code>
            <p className="text-small text-soft">
              {s.minutes} min · would tell {s.tells}
            </p>
          </div>
          <table className="text-small">
            <tbody>
              {s.answers.map((a) => (
                <tr key={a.says} className="border-b border-rule align-top">
                  <td className="w-14 pr-2 text-right whitespace-nowrap text-soft">{percent(a.chance)}</td>
                  <td className="pr-3">{a.says}</td>
                  <td className="text-soft">
                    {a.cause}, {percent(a.probability)}
                  </td>
                </tr>
              ))}
            </tbody>
          </table>
        </li>
      ))}
    </ol>
  )
}
