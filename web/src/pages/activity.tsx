import { plural, t } from '@lingui/core/macro'
import { Trans } from '@lingui/react/macro'
import { useQuery } from '@tanstack/react-query'

import { type Schemas } from '../api/client'
import { type Asked, type By, queries } from '../api/queries'
import { Listing } from '../ui/basics'
import { exactNumber, figure, size } from '../ui/format'
import { written } from '../ui/language'

const useCounts = (asked: Asked, by: By, most?: number) => useQuery(queries.activity(asked, by, most))

/** Pictures of what was filed, each with its table. */
export function Activity({ asked, onNarrow }: { asked: Asked; onNarrow: (name: string, value: string) => void }) {
  return (
    <>
      <Time asked={asked} />
      <div className="grid gap-x-8 xl:grid-cols-2">
        <Shares title={t`By rule`} by="rule" asked={asked} onPick={(tally) => onNarrow('rule', tally.name)} />
        <Shares title={t`By sender`} by="sender" asked={asked} onPick={(tally) => onNarrow('sender', tally.id)} />
        <Shares title={t`By kind`} by="kind" asked={asked} onPick={(tally) => onNarrow('kind', tally.name)} />
        <Shares title={t`By mailbox`} by="mailbox" asked={asked} onPick={(tally) => onNarrow('mailbox', tally.name)} />
      </div>
    </>
  )
}

const day = new Intl.DateTimeFormat(written, { day: 'numeric', month: 'short', year: 'numeric', timeZone: 'UTC' })
const month = new Intl.DateTimeFormat(written, { month: 'long', year: 'numeric', timeZone: 'UTC' })

/** What the numbers come to that were read of the files. */
function Sums({ sums }: { sums: Schemas['ValueSum'][] }) {
  return (
    <div className="mb-6">
      <h2>
        <Trans>Sums of all that was found</Trans>
      </h2>
      <dl className="flex flex-wrap gap-x-10 gap-y-2">
        {sums.map((s) => (
          <div key={`${s.name} ${s.currency}`}>
            <dt className="text-[13.5px] text-ink-2">
              {s.name} ({plural(s.count, { one: '# filing', other: '# filings' })})
            </dt>
            <dd className="text-lg font-semibold">
              {exactNumber(s.total)} {s.currency}
            </dd>
          </div>
        ))}
      </dl>
    </div>
  )
}

function Time({ asked }: { asked: Asked }) {
  const days = useCounts(asked, 'day')
  const months = useCounts(asked, 'month')
  const long = (days.data?.tallies.length ?? 0) > 120
  const query = long ? months : days
  const name = (tally: Schemas['Tally']) =>
    long ? month.format(new Date(tally.id + '-01')) : day.format(new Date(tally.id))
  return (
    <section className="mb-8">
      {days.data?.sums && <Sums sums={days.data.sums} />}
      <h2>{long ? t`Filed each month` : t`Filed each day`}</h2>
      <Listing query={query} empty={(a) => a.total === 0 && t`No matching files.`}>
        {(a) => (
          <>
            <Columns tallies={a.tallies} name={name} label={long ? t`Filed each month` : t`Filed each day`} />
            <details className="mt-1 text-sm">
              <summary className="text-pen">
                <Trans>As a table</Trans>
              </summary>
              <div className="max-h-72 overflow-auto" tabIndex={0} role="region" aria-label={t`Filed, as a table`}>
                <table aria-label={t`Filed, as a table`} className="mt-2 w-full max-w-md">
                  <thead>
                    <tr className="border-b border-line-2 text-left text-[13px] text-ink-3">
                      <th scope="col" className="py-1 font-semibold">
                        {long ? t`Month` : t`Day`}
                      </th>
                      <th scope="col" className="py-1 text-right font-semibold">
                        <Trans>Filings</Trans>
                      </th>
                      <th scope="col" className="py-1 text-right font-semibold">
                        <Trans>Size</Trans>
                      </th>
                    </tr>
                  </thead>
                  <tbody>
                    {a.tallies.toReversed().map((tally) => (
                      <tr key={tally.id} className="border-b border-line">
                        <td className="py-1">{name(tally)}</td>
                        <td className="text-right">{figure(tally.count)}</td>
                        <td className="text-right text-ink-2">{size(tally.size)}</td>
                      </tr>
                    ))}
                  </tbody>
                </table>
              </div>
            </details>
          </>
        )}
      </Listing>
    </section>
  )
}

/** One column for each day or month, with the highest named and the ends dated. */
function Columns({
  tallies,
  name,
  label,
}: {
  tallies: Schemas['Tally'][]
  name: (tally: Schemas['Tally']) => string
  label: string
}) {
  const most = Math.max(1, ...tallies.map((tally) => tally.count))
  const width = 900
  const height = 190
  const step = Math.min(40, width / Math.max(1, tallies.length))
  const top = tallies.findIndex((tally) => tally.count === most)
  const tip = t`${label}: ${tallies.length} in all, from ${tallies.length ? name(tallies[0]) : ''}; the most were ${most} (${top >= 0 ? name(tallies[top]) : ''}). The table below has them all.`
  return (
    <figure className="mt-2 rounded-xl border border-line bg-sheet-2 px-5 pt-4 pb-2">
      <svg viewBox={`0 0 ${width} ${height + 22}`} width="100%" role="img" aria-label={tip}>
        {[0.5, 1].map((f) => (
          <line key={f} x1="0" x2={width} y1={22 + height * (1 - f)} y2={22 + height * (1 - f)} stroke="var(--line)" />
        ))}
        {tallies.map((tally, i) => {
          const h = tally.count === 0 ? 0 : Math.max(2, (tally.count / most) * height)
          return (
            <rect
              key={tally.id}
              x={i * step + step * 0.12}
              y={22 + height - h}
              width={Math.max(1, step * 0.76)}
              height={h}
              rx={Math.min(2, step / 8)}
              fill="var(--pen)"
            >
              <title>{`${name(tally)}: ${plural(tally.count, { one: '# filing', other: '# filings' })}, ${size(tally.size)}`}</title>
            </rect>
          )
        })}
        <line x1="0" x2={width} y1={22 + height + 0.5} y2={22 + height + 0.5} stroke="var(--line-2)" />
        {top >= 0 && (
          <text
            x={Math.min(width - 4, Math.max(4, top * step + step / 2))}
            y={15}
            fontSize="14"
            fill="var(--ink-2)"
            textAnchor={top * step < 60 ? 'start' : top * step > width - 60 ? 'end' : 'middle'}
          >
            {figure(most)}
          </text>
        )}
      </svg>
      <figcaption className="mt-1 flex justify-between text-xs text-ink-3">
        <span>{tallies.length > 0 && name(tallies[0])}</span>
        <span>{tallies.length > 1 && name(tallies.at(-1)!)}</span>
      </figcaption>
    </figure>
  )
}

/** A table whose lines are drawn as well: what has the most comes first. */
function Shares({
  title,
  by,
  asked,
  onPick,
}: {
  title: string
  by: By
  asked: Asked
  onPick: (tally: Schemas['Tally']) => void
}) {
  const query = useCounts(asked, by, 8)
  return (
    <section className="mb-8 min-w-0">
      <h2 className="mb-1">{title}</h2>
      <Listing query={query} empty={(a) => a.tallies.length === 0 && t`Nothing.`}>
        {(a) => {
          const most = a.tallies[0].count
          const rest = a.total - a.tallies.reduce((n, tally) => n + tally.count, 0)
          return (
            <table aria-label={title} className="w-full table-fixed text-[14.5px]">
              <colgroup>
                <col className="w-[42%]" />
                <col />
                <col className="w-20" />
                <col className="w-20" />
              </colgroup>
              <thead className="sr-only">
                <tr>
                  <th>{title.slice(3)}</th>
                  <th>
                    <Trans>Share</Trans>
                  </th>
                  <th>
                    <Trans>Filings</Trans>
                  </th>
                  <th>
                    <Trans>Size</Trans>
                  </th>
                </tr>
              </thead>
              <tbody>
                {a.tallies.map((tally) => (
                  <tr key={tally.id} className="border-b border-line">
                    <td className="truncate py-1.5 pr-2">
                      <button
                        className="max-w-full truncate hover:underline"
                        title={tally.name}
                        onClick={() => onPick(tally)}
                      >
                        {tally.name || t`none`}
                      </button>
                    </td>
                    <td>
                      <span
                        className="block h-2.5 rounded-sm bg-pen"
                        style={{ width: `${Math.max(1, (tally.count / most) * 100)}%` }}
                      >
                        <span className="sr-only">{Math.round((tally.count / a.total) * 100)} %</span>
                      </span>
                    </td>
                    <td className="text-right">{figure(tally.count)}</td>
                    <td className="text-right text-ink-3">{size(tally.size)}</td>
                  </tr>
                ))}
                {rest > 0 && (
                  <tr>
                    <td className="py-1.5 text-ink-3">
                      <Trans>others</Trans>
                    </td>
                    <td />
                    <td className="text-right text-ink-3">{figure(rest)}</td>
                    <td />
                  </tr>
                )}
              </tbody>
            </table>
          )
        }}
      </Listing>
    </section>
  )
}
