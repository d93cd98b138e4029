import { t } from '@lingui/core/macro'
import { Plural, Trans } from '@lingui/react/macro'
import { useQuery } from '@tanstack/react-query'
import { useState } from 'react'
import { Link, useNavigate } from 'react-router'

import type { Schemas } from '../api/client'
import { queries } from '../api/queries'
import { Bars, Button, Listing, Page } from '../ui/basics'
import { figure, size, today, when } from '../ui/format'
import { Machines, Of } from '../ui/office'
import { labelOf } from '../ui/labels'
import { ItemLine, MessageHead } from './parts'

export function Today() {
  const query = useQuery({ ...queries.today, refetchInterval: 60_000 })
  const me = useQuery(queries.me)
  return (
    <Listing query={query}>
      {(d) => (d.has_filed || (me.data && me.data.role !== 'administrator') ? <Day day={d} /> : <FirstSteps day={d} />)}
    </Listing>
  )
}

function FirstSteps({ day }: { day: Schemas['Today'] }) {
  const steps = [
    {
      done: day.has_mailbox,
      title: t`Add a mailbox`,
      text: t`Where messages arrive: a mail server, a name and a password.`,
      to: '/settings/mailboxes?add=mailbox',
    },
    {
      done: day.has_cabinet,
      title: t`Choose a cabinet`,
      text: t`Where Ink Tray keeps the files: a folder on this machine, a mounted share or a server.`,
      to: '/settings/cabinets?add=cabinet',
    },
    {
      done: day.has_rule,
      title: t`Make a rule`,
      text: t`What to look for, which attachments to take, and where to file them. You see what the rule would do before it does anything.`,
      to: '/rules/new?start=proposed',
    },
    {
      done: day.running,
      title: t`Switch it on`,
      text: t`From then on the rule files mail as it arrives. If you want, it also files the mail that is there already.`,
      to: day.first_rule ? `/rules/${day.first_rule}` : '/rules',
    },
  ]
  const next = steps.find((s) => !s.done)
  return (
    <Page
      title={next ? t`Four steps to the first filed message` : t`Everything is ready for the first message`}
      sub={
        next
          ? t`Ink Tray files nothing and changes nothing in a mailbox before you switch a rule on.`
          : t`A rule is on. It files matching mail as it arrives.`
      }
    >
      <ol className="max-w-2xl">
        {steps.map((s, i) => (
          <li key={s.title} className="flex gap-5 border-t border-line py-5 first:border-0">
            <span aria-hidden className="font-serif text-3xl text-ink-3">
              {s.done ? '✓' : i + 1}
            </span>
            <div className="grow">
              <h2>
                {s.title}
                {s.done && (
                  <span className="ml-2 font-sans text-sm font-normal text-moss">
                    <Trans>done</Trans>
                  </span>
                )}
              </h2>
              <p className="text-ink-2">{s.text}</p>
            </div>
            {!s.done && (
              <Link
                to={s.to}
                className={`h-fit shrink-0 rounded-lg border px-4 py-2 text-sm font-semibold ${s === next ? 'border-ink bg-ink text-sheet' : 'border-line-2'}`}
              >
                {s.title}
              </Link>
            )}
          </li>
        ))}
      </ol>
      {!next && (
        <section className="max-w-2xl border-t border-line py-5" aria-live="polite">
          <h2>
            <Trans>The first message</Trans>
          </h2>
          <p className="text-ink-2">
            <Trans>
              Send a message that matches your rule, with an attachment. It appears here as soon as it is filed. Or{' '}
              <Link className="text-pen underline" to={`/rules/${day.first_rule}`}>
                open the rule
              </Link>{' '}
              and file old mail. Each message that is not filed says why on the page{' '}
              <Link className="text-pen underline" to="/mail">
                Mail
              </Link>
              {day.tray > 0 && (
                <>
                  ;{' '}
                  <Link className="text-pen underline" to="/tray">
                    <Trans>
                      <Plural value={day.tray} one="# item waits" other="# items wait" /> in the tray
                    </Trans>
                  </Link>
                </>
              )}
              .
            </Trans>
          </p>
        </section>
      )}
      {day.has_mailbox && (
        <div className="mt-6 max-w-2xl">
          <MailboxesToday day={day} />
        </div>
      )}
    </Page>
  )
}

const isWatched = (state: string) =>
  state === 'watched live' || state === 'checked at an interval' || state === 'checked in turns'

function MailboxesToday({ day }: { day: Schemas['Today'] }) {
  return (
    <>
      <h2 className="mb-1">
        <Trans>Mailboxes</Trans>
      </h2>
      <table aria-label={t`Mailboxes`} className="w-full text-[14.5px]">
        <thead className="sr-only">
          <tr>
            <th>
              <Trans>Mailbox</Trans>
            </th>
            <th>
              <Trans>State</Trans>
            </th>
            <th>
              <Trans>Filed today</Trans>
            </th>
          </tr>
        </thead>
        <tbody>
          {day.mailboxes.map((m) => (
            <tr key={`${m.machine} ${m.id}`} className="border-b border-line">
              <td className="p-2.5 font-semibold">{m.name}</td>
              <td className={`p-2.5 ${m.state === 'out of reach' ? 'text-seal' : ''}`}>
                {m.state === 'elsewhere' ? <Of machine={m.machine} /> : labelOf(m.state)}
              </td>
              <td className="p-2.5 text-right text-ink-2">
                <Trans>{m.filed} today</Trans>
              </td>
            </tr>
          ))}
        </tbody>
      </table>
    </>
  )
}

/** Where the browser keeps by which date the chart counts. */
const countedBy = 'inktray-chart'

function Day({ day }: { day: Schemas['Today'] }) {
  const go = useNavigate()
  const own = day.mailboxes.filter((m) => m.state !== 'elsewhere') // of the others only they know
  const live = own.filter((m) => isWatched(m.state)).length
  const all = live === own.length
  const last = day.arrivals[0]?.message.received_at
  const [by, setBy] = useState<'received' | 'filed'>(
    window.localStorage.getItem(countedBy) === 'filed' ? 'filed' : 'received',
  )
  const choose = (to: typeof by) => {
    window.localStorage.setItem(countedBy, to)
    setBy(to)
  }
  const days = by === 'filed' ? day.days : day.days_received
  const sub = t`${all ? (live === 1 ? t`The mailbox is` : t`All ${live} mailboxes are`) : t`${live} of ${own.length} mailboxes are`} being watched${own.length < day.mailboxes.length ? t` here` : ''}.${last ? t` Last arrival ${when(last)}.` : ''}`
  return (
    <Page
      title={today()}
      sub={sub}
      actions={
        <Button look="main" onClick={() => void go('/rules/new')}>
          <Trans>New rule</Trans>
        </Button>
      }
    >
      <Machines missing={day.missing} />
      <dl className="mb-6 grid grid-cols-2 rounded-xl border border-line bg-sheet-2 lg:grid-cols-4">
        <Figure figure={figure(day.filed_today)} text={t`filed today`} />
        <Figure figure={figure(day.filed_month)} text={t`this month, ${size(day.bytes_month)}`} />
        <Figure figure={figure(day.tray)} text={t`in the tray, waiting for you`} seal={day.tray > 0} to="/tray" />
        <Figure
          figure={
            day.delay_ms === undefined
              ? '–'
              : day.delay_ms < 1000
                ? `${day.delay_ms} ms`
                : `${(day.delay_ms / 1000).toFixed(1)} s`
          }
          text={t`typical time from arrival to filed`}
        />
      </dl>
      <div className="grid grid-cols-[minmax(0,1fr)] gap-7 lg:grid-cols-[minmax(0,1.12fr)_minmax(0,1fr)]">
        <section aria-live="polite">
          <h2>
            <Trans>As it arrives</Trans>
          </h2>
          {day.arrivals.length === 0 && (
            <p className="py-4 text-ink-2">
              <Trans>No mail has arrived since the rules were switched on.</Trans>
            </p>
          )}
          {day.arrivals.map((a) => (
            <article key={`${a.machine} ${a.message.id}`} className="border-t border-line py-3 first-of-type:border-0">
              <MessageHead message={a.message} time={when(a.message.received_at)} of={a.machine} written />
              {a.items
                .filter((i) => i.verdict !== 'left out')
                .map((i) => (
                  <ItemLine key={i.id} item={i} />
                ))}
            </article>
          ))}
        </section>
        <div>
          <div className="flex items-center justify-between gap-3">
            <h2 id="fortnight">
              <Trans>Last fourteen days</Trans>
            </h2>
            <select
              aria-label={t`Count the files by`}
              className="rounded border border-line-2 bg-sheet px-1.5 py-0.5 text-sm text-ink-2"
              value={by}
              onChange={(e) => choose(e.target.value as 'received' | 'filed')}
            >
              <option value="received">{t`by date received`}</option>
              <option value="filed">{t`by date filed`}</option>
            </select>
          </div>
          <div className="mt-2.5 mb-6 rounded-xl border border-line bg-sheet-2 px-5 pt-5 pb-2">
            <Bars
              days={days}
              label={
                by === 'filed'
                  ? t`Filed on each of the last fourteen days`
                  : t`Filed files by the day on which their message came, the last fourteen days`
              }
            />
            <p className="mt-1 flex justify-between text-xs text-ink-3">
              <span>
                <Trans>two weeks ago</Trans>
              </span>
              <span>
                <Trans>
                  today: <Plural value={days.at(-1) ?? 0} one="# file" other="# files" />
                </Trans>
              </span>
            </p>
          </div>
          <MailboxesToday day={day} />
        </div>
      </div>
    </Page>
  )
}

function Figure({ figure, text, seal, to }: { figure: string; text: string; seal?: boolean; to?: string }) {
  return (
    <div className="flex flex-col-reverse justify-end border-line px-5 py-3.5 max-lg:odd:border-r lg:border-l lg:first:border-0">
      <dt className="text-[13.5px] text-ink-2">
        {to ? (
          <Link to={to} className="hover:underline">
            {text}
          </Link>
        ) : (
          text
        )}
      </dt>
      <dd className={`font-serif text-[27px] leading-tight font-semibold ${seal ? 'text-seal' : ''}`}>{figure}</dd>
    </div>
  )
}
