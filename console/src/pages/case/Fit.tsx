import { Collapsible } from 'radix-ui'

import type { Choice, Verdict } from '../../api/client'
import { ratingTone, StatusWord } from '../../parts/Status'
import { bytes } from '../../parts/text'

/** How fit the machine is for each release, each requirement with what was measured. */
export function Fit({ choices }: { choices: Choice[] }) {
  return (
    <ul className="space-y-1">
      {choices.map((c, i) => (
        <li key={c.report.release}>
          <Collapsible.Root defaultOpen={c.picked || (i === 0 && !choices.some((x) => x.picked))}>
            <div className="grid grid-cols-[7rem_14rem_1fr] items-baseline gap-x-3">
              <StatusWord tone={ratingTone(c.report.verdict)}>{c.report.verdict}</StatusWord>
              <Collapsible.Trigger className="text-left font-semibold underline decoration-dotted underline-offset-2">{c.report.title}</Collapsible.Trigger>
              <span className="text-small text-soft">
                {c.picked ? 'the one to go to: ' : 'not: '}
                {c.why}
              </span>
            </div>
            <Collapsible.Content>
              <Verdicts list={c.report.verdicts} />
              <p className="text-tiny text-soft">Required by: {c.report.source}</p>
            </Collapsible.Content>
          </Collapsible.Root>
        </li>
      ))}
    </ul>
  )
}

function Verdicts({ list }: { list: Verdict[] }) {
  return (
    <table className="my-1 w-full text-small">
      <thead className="text-left text-tiny text-soft">
        <tr>
          <th className="w-28 font-normal">verdict</th>
          <th className="w-48 font-normal">what</th>
          <th className="font-normal">required</th>
          <th className="font-normal">measured</th>
        </tr>
      </thead>
      <tbody>
        {list.map((v) => (
          <tr key={v.id} className="border-t border-rule align-top">
            <td>
              <StatusWord tone={ratingTone(v.verdict)}>{v.verdict}</StatusWord>
            </td>
            <td title={v.why}>{v.title}</td>
            <td className="pr-3">
              {v.required}
              {v.sum?.map((t) => (
                <div key={t.what} className="text-tiny text-soft">
                  {bytes(t.bytes)} {t.what}
                </div>
              ))}
            </td>
            <td>
              {v.measured}
              {v.do && <div className="text-tiny text-soft">{v.do}</div>}
            </td>
          </tr>
        ))}
      </tbody>
    </table>
  )
}
