import { useQuery } from '@tanstack/react-query'
import { Link, useParams, useSearchParams } from 'react-router'

import { api, ask, type TwinReport } from '../../api/client'
import { Notice } from '../../parts/Notice'
import { Section } from '../../parts/Section'

/** The healthy machines most like one, and in what it differs from one of them. */
export function Twin() {
  const { name = '' } = useParams()
  const [params, setParams] = useSearchParams()
  const against = params.get('against') ?? ''
  const twin = useQuery({
    queryKey: ['twin', name, against],
    queryFn: () => ask(api.GET('/api/v1/machines/{name}/twin', { params: { path: { name }, query: { against: against || undefined } } })),
  })
  if (twin.isPending) return <Notice>Looking for healthy machines like it…</Notice>
  if (twin.isLoadingError) return <Notice bad>{twin.error.message}</Notice>
  return (
    <main className="min-h-0 flex-1 overflow-auto px-4 py-3">
      <h1 className="border-b border-rule pb-3 text-lead font-semibold">
        <Link to={`/machines/${encodeURIComponent(name)}`}>{name}</Link> <span className="font-normal text-soft">beside healthy machines of its model and release</span>
      </h1>
      {twin.data.twins.length === 0 ? <Notice>No healthy machine of this model and release is known yet.</Notice> : <Beside r={twin.data} choose={(m) => setParams({ against: m })} />}
    </main>
  )
}

function Beside({ r, choose }: { r: TwinReport; choose: (machine: string) => void }) {
  return (
    <>
      <Section title="Most like it">
        <ul className="flex flex-wrap gap-x-6">
          {r.twins.map((t) => (
            <li key={t.machine}>
              <button type="button" aria-pressed={t.machine === r.against} onClick={() => choose(t.machine)} className={t.machine === r.against ? 'font-semibold' : 'underline underline-offset-2'}>
                {t.machine}
              </button>{' '}
              <span className="text-soft">{`${(100 * t.alike).toFixed(0)} % the same`}</span>
            </li>
          ))}
        </ul>
        <p className="mt-1 text-small text-soft">{`Of ${r.looked} healthy machines that were looked at.`}</p>
      </Section>
      <Section title="What differs">
        {r.differences.length === 0 ? (
          <p className="text-soft">{`Nothing that is known differs from ${r.against}.`}</p>
        ) : (
          <table className="w-full">
            <thead className="text-left text-tiny text-soft">
              <tr>
                <th className="font-normal"></th>
                <th className="font-normal">here</th>
                <th className="font-normal">{`on ${r.against}`}</th>
                <th className="font-normal">healthy ones as here</th>
                <th className="font-normal">failing ones as here</th>
              </tr>
            </thead>
            <tbody>
              {r.differences.map((d) => (
                <tr key={d.trait} className="border-t border-rule">
                  <td className="py-0.5 pr-3 font-semibold">{d.trait}</td>
                  <td className="pr-3 font-mono text-small">{d.here || '–'}</td>
                  <td className="pr-3 font-mono text-small">{d.there || '–'}</td>
                  <td>{`${d.healthy} of ${d.ofHealthy}`}</td>
                  <td>{`${d.failing} of ${d.ofFailing}`}</td>
                </tr>
              ))}
            </tbody>
          </table>
        )}
      </Section>
    </>
  )
}
