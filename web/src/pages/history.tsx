import { plural, t } from '@lingui/core/macro'
import { Trans } from '@lingui/react/macro'
import { keepPreviousData, useInfiniteQuery, useMutation, useQuery, useQueryClient } from '@tanstack/react-query'
import { useState } from 'react'
import { Link, useNavigate, useParams } from 'react-router'

import { api, type Schemas, value } from '../api/client'
import { keys, office, queries } from '../api/queries'
import { useAddress } from '../ui/address'
import { Button, Chip, Listing, Page, Tick, Wrong } from '../ui/basics'
import { Term } from '../ui/term'
import { figure, when } from '../ui/format'
import { Machines, Of, To, useOffice } from '../ui/office'
import { labelOf } from '../ui/labels'
import { ItemLine, MessageHead, Steps } from './parts'
import { Undo } from './undo'

type Pass = Schemas['Pass']
const kinds: Record<Pass['kind'], string> = {
  live: t`new mail`,
  'old mail': t`old mail`,
  undo: t`taken back`,
  again: t`filed again`,
  'by hand': t`by hand`,
  verification: t`files verified`,
  move: t`cabinet moved`,
  values: t`values read`,
}

export const lasted = (seconds = 0) =>
  seconds < 1
    ? `${Math.max(1, Math.round(seconds * 1000))} ms`
    : seconds < 60
      ? `${seconds.toFixed(1)} s`
      : seconds < 3600
        ? `${Math.round(seconds / 60)} min`
        : `${(seconds / 3600).toFixed(1)} h`

/** What a pass did, in a few words. */
const sum = (p: Pass) => {
  if (p.kind === 'verification')
    return p.note || (p.state === 'running' ? t`${p.looked} of ${p.total}` : t`${p.looked} as they were filed`)
  if (p.kind === 'values') return t`values of ${figure(p.matched)} changed${p.note ? `; ${p.note}` : ''}`
  if (p.kind === 'move') return t`${figure(p.looked)} of ${figure(p.total)} copied`
  if (p.kind === 'undo') return t`${p.taken_back ?? 0} taken back${p.kept ? t`, ${p.kept} left` : ''}`
  const parts = [
    [p.filed, t`filed`],
    [p.left_out, t`left out`],
    [p.already_there, t`already there`],
    [p.held, t`held`],
    [p.failed, t`failed`],
    [p.waiting, t`waiting`],
  ]
    .filter(([n]) => n)
    .map(([n, w]) => `${n} ${w}`)
  return parts.join(', ') || t`nothing to file`
}

const about = (p: Pass) =>
  p.kind === 'undo' ? (p.undoes ? t`of pass ${p.undoes}` : p.note) : p.kind === 'move' ? p.note : p.rule || p.mailbox

export function History() {
  const [get, change] = useAddress()
  const [kind, rule, from, to] = ['kind', 'rule', 'from', 'to'].map(get)
  const quiet = get('quiet') === 'yes'
  const set = (key: string, v: string) => change({ [key]: v }, true)
  const rules = useQuery(queries.rules)
  const { others } = useOffice()
  const list = useInfiniteQuery({
    queryKey: [...keys.passes, others.length > 0, kind, rule, from, to, quiet],
    queryFn: async ({ pageParam }) => {
      const asked = api.GET('/api/v1/passes', {
        params: {
          query: {
            ...office,
            kind: (kind || undefined) as Pass['kind'] | undefined,
            rule: rule || undefined,
            from: from || undefined,
            to: to || undefined,
            matching: !quiet,
            after: typeof pageParam === 'number' ? pageParam : undefined,
            cursor: typeof pageParam === 'string' ? pageParam : undefined,
            most: 60,
          },
        },
      })
      const passes = await value(asked)
      const next = (await asked).response.headers.get('Inktray-Next') ?? undefined
      // One machine goes on after the last number, several after the cursor that they give.
      return { passes, next: next ?? (passes.length === 60 && others.length === 0 ? passes.at(-1)!.id : undefined) }
    },
    initialPageParam: undefined as number | string | undefined,
    getNextPageParam: (last) => last.next,
    placeholderData: keepPreviousData,
  })
  return (
    <Page
      title={t`History`}
      sub={
        <Trans>
          Each <Term word="pass" /> over messages: the result, how long it took, and who started it.
        </Trans>
      }
    >
      <Machines />
      <div className="mb-4 flex flex-wrap items-center gap-x-4 gap-y-2 text-sm">
        <label className="flex items-center gap-1.5">
          <Trans>
            kind
            <select className="field !w-auto !py-1" value={kind} onChange={(e) => set('kind', e.target.value)}>
              <option value="">all</option>
              {Object.entries(kinds).map(([k, w]) => (
                <option key={k} value={k}>
                  {w}
                </option>
              ))}
            </select>
          </Trans>
        </label>
        <label className="flex items-center gap-1.5">
          <Trans>
            rule
            <select className="field !w-auto max-w-52 !py-1" value={rule} onChange={(e) => set('rule', e.target.value)}>
              <option value="">all</option>
              {rules.data?.map((r) => (
                <option key={r.id} value={r.id}>
                  {r.name}
                </option>
              ))}
            </select>
          </Trans>
        </label>
        <label className="flex items-center gap-1.5">
          <Trans>
            from
            <input
              type="date"
              className="field !w-auto !py-1"
              value={from}
              onChange={(e) => set('from', e.target.value)}
            />
          </Trans>
        </label>
        <label className="flex items-center gap-1.5">
          <Trans>
            to
            <input type="date" className="field !w-auto !py-1" value={to} onChange={(e) => set('to', e.target.value)} />
          </Trans>
        </label>
        <Tick
          className=""
          label={t`Show passes without a matching rule`}
          checked={quiet}
          onChange={(on) => set('quiet', on ? 'yes' : '')}
        />
      </div>
      <Listing
        query={{ data: list.data, error: list.error, isPending: list.isPending }}
        empty={(d) => d.pages[0].passes.length === 0 && t`No matching passes.`}
      >
        {(d) => (
          <>
            <div className="overflow-x-auto" tabIndex={0} role="region" aria-label={t`Passes`}>
              <table aria-label={t`Passes`} className="cards w-full text-[14.5px]">
                <thead>
                  <tr className="border-b border-line-2 text-left text-[13px] text-ink-3">
                    {[
                      t`No.`,
                      ...(others.length > 0 ? [t`Machine`] : []),
                      t`Began`,
                      t`What`,
                      t`Messages`,
                      t`Result`,
                      t`Took`,
                      t`By`,
                    ].map((h) => (
                      <th key={h} scope="col" className="px-2.5 py-2 font-semibold">
                        {h}
                      </th>
                    ))}
                  </tr>
                </thead>
                <tbody>
                  {d.pages
                    .flatMap((one) => one.passes)
                    .map((p) => (
                      <tr key={`${p.machine} ${p.id}`} className="border-b border-line align-top">
                        <td data-label={t`No.`} className="px-2.5 py-2">
                          <To className="font-semibold text-pen hover:underline" of={p.machine} to={`/history/${p.id}`}>
                            {p.id}
                          </To>
                        </td>
                        {others.length > 0 && (
                          <td data-label={t`Machine`} className="px-2.5 py-2">
                            <Of machine={p.machine} />
                          </td>
                        )}
                        <td data-label={t`Began`} className="px-2.5 py-2 whitespace-nowrap">
                          {when(p.started_at)}
                        </td>
                        <td data-label={t`What`} className="px-2.5 py-2">
                          <span className="font-semibold">{kinds[p.kind]}</span>{' '}
                          <span className="text-ink-2">{about(p)}</span>
                        </td>
                        <td data-label={t`Messages`} className="px-2.5 py-2 whitespace-nowrap">
                          {p.looked}
                          {p.total > p.looked && t` of ${p.total}`}
                        </td>
                        <td data-label={t`Result`} className="px-2.5 py-2">
                          {sum(p)} {p.state !== 'done' && <Chip word={p.state} />}
                        </td>
                        <td data-label={t`Took`} className="px-2.5 py-2 whitespace-nowrap text-ink-2">
                          {p.state === 'running' ? t`${lasted(p.seconds)} so far` : lasted(p.seconds)}
                        </td>
                        <td data-label={t`By`} className="px-2.5 py-2 text-ink-2">
                          {p.made_by}
                        </td>
                      </tr>
                    ))}
                </tbody>
              </table>
            </div>
            {list.hasNextPage && (
              <p className="mt-4 text-center">
                <Button onClick={() => void list.fetchNextPage()} disabled={list.isFetchingNextPage}>
                  <Trans>Show more</Trans>
                </Button>
              </p>
            )}
          </>
        )}
      </Listing>
    </Page>
  )
}

/** The messages that a pass could not read, by name. */
function UnreadMessages({ pass }: { pass: number }) {
  const unread = useQuery(queries.unread(pass))
  return (
    <Listing query={unread}>
      {(all) => (
        <section className="mb-5 max-w-4xl rounded-xl border border-line bg-sheet-2 p-5">
          <h2 className="!text-[17px]">
            <Trans>Messages that could not be read</Trans>
          </h2>
          <p className="mt-1 text-ink-2">
            <Trans>
              Try them again in the{' '}
              <Link className="text-pen hover:underline" to="/tray">
                tray
              </Link>
              .
            </Trans>
          </p>
          <ul className="mt-2">
            {all.map((m) => (
              <li key={m.id} className="border-t border-line py-2 [overflow-wrap:anywhere]">
                <span className="font-semibold">{m.subject || t`message ${m.uid}`}</span>{' '}
                <span className="text-ink-2">
                  <Trans>
                    in “{m.mailbox}”, {m.folder}: {m.reason}.
                  </Trans>
                </span>
              </li>
            ))}
          </ul>
        </section>
      )}
    </Listing>
  )
}

/** One pass with every message that it looked at. */
export function PassPage() {
  const number = Number(useParams().id)
  const go = useNavigate()
  const client = useQueryClient()
  const [undoing, setUndoing] = useState(false)
  const [all, setAll] = useState(false)
  const pass = useQuery(queries.pass(number))
  const messages = useInfiniteQuery({
    queryKey: [...keys.passes, 'messages', number, all],
    queryFn: ({ pageParam }) =>
      value(
        api.GET('/api/v1/passes/{number}/messages', {
          params: { path: { number }, query: { matching: !all, after: pageParam || undefined, most: 40 } },
        }),
      ),
    initialPageParam: 0,
    getNextPageParam: (last) => (last.length === 40 ? last.at(-1)!.message.id : undefined),
    placeholderData: keepPreviousData,
  })
  const steer = useMutation({
    mutationFn: (to: 'running' | 'paused' | 'stopped') =>
      value(api.PUT('/api/v1/passes/{number}', { params: { path: { number } }, body: { to } })),
    onSuccess: () => client.invalidateQueries({ queryKey: keys.passes }),
  })
  const again = useMutation({
    mutationFn: () => value(api.POST('/api/v1/passes/{number}/again', { params: { path: { number } } })),
    onSuccess: () => client.invalidateQueries(),
  })
  return (
    <Listing query={pass}>
      {(p) => (
        <Page
          title={t`Pass ${p.id}: ${kinds[p.kind]}`}
          sub={
            <Trans>
              {about(p)}
              {about(p) && ', '}begun {when(p.started_at)} by {p.made_by};{' '}
              {p.state === 'running' ? t`it runs` : t`${labelOf(p.state)} after ${lasted(p.seconds)}`}.{' '}
              {p.kind === 'move'
                ? ''
                : p.kind === 'verification' || p.kind === 'values'
                  ? t`${plural(p.looked, { one: '# file', other: '# files' })} of ${figure(p.total)} read: `
                  : t`${plural(p.looked, { one: '# message', other: '# messages' })}${p.total > p.looked ? t` of ${figure(p.total)}` : ''} looked at, `}
              {sum(p)}.{p.note && !['undo', 'verification', 'values', 'move'].includes(p.kind) && ` ${p.note}.`}
            </Trans>
          }
          actions={
            <>
              {p.kind === 'old mail' && p.state === 'running' && (
                <>
                  <Button onClick={() => steer.mutate('paused')}>
                    <Trans>Pause</Trans>
                  </Button>
                  <Button onClick={() => steer.mutate('stopped')}>
                    <Trans>Stop</Trans>
                  </Button>
                </>
              )}
              {['verification', 'values', 'move'].includes(p.kind) && p.state === 'running' && (
                <Button onClick={() => steer.mutate('stopped')}>
                  <Trans>Stop</Trans>
                </Button>
              )}
              {p.kind === 'old mail' && p.state === 'paused' && (
                <Button onClick={() => steer.mutate('running')}>
                  <Trans>Go on</Trans>
                </Button>
              )}
              {p.state === 'done' && !!p.again && (
                <Button disabled={again.isPending} onClick={() => again.mutate()}>
                  <Trans>File it again ({figure(p.again)})</Trans>
                </Button>
              )}
              {!!p.undoable && (
                <Button onClick={() => setUndoing(true)}>
                  <Trans>Take it back…</Trans>
                </Button>
              )}
            </>
          }
        >
          <Wrong error={steer.error ?? again.error} />
          {!!p.unread && <UnreadMessages pass={p.id} />}
          {p.kind === 'move' ? (
            <p>
              {p.state === 'running'
                ? t`Ink Tray copies the files and reads them back at the new place. Filing goes on meanwhile, and continues at the new place.`
                : p.state === 'done'
                  ? t`The cabinet is at its new place now, and the register leads there. The old place keeps its files.`
                  : t`The cabinet did not move.`}
            </p>
          ) : p.kind === 'values' ? (
            <p>
              <Trans>
                Ink Tray read filed files again for the values that their rules read now. Corrections by people stay,
                and no file was moved or renamed. See the{' '}
                <Link className="text-pen underline" to="/register">
                  register
                </Link>
                .
              </Trans>
            </p>
          ) : p.kind === 'verification' ? (
            <p>
              {p.matched > 0 ? (
                <Trans>
                  Missing and changed files wait in the{' '}
                  <Link className="text-pen underline" to="/tray">
                    tray
                  </Link>
                  .
                </Trans>
              ) : (
                t`Every file is where it was filed, unchanged.`
              )}
            </p>
          ) : (
            <>
              {p.kind !== 'undo' && (
                <p className="mb-2 text-sm">
                  <Tick
                    className=""
                    label={t`Show messages that no rule applied to`}
                    checked={all}
                    onChange={(on) => setAll(on)}
                  />
                </p>
              )}
              <Listing
                query={{ data: messages.data, error: messages.error, isPending: messages.isPending }}
                empty={(d) =>
                  d.pages[0].length === 0 &&
                  (all ? t`This pass looked at no message.` : t`No rule applied to these messages.`)
                }
              >
                {(d) => (
                  <div className="max-w-4xl">
                    {d.pages.flat().map((m) => (
                      <article key={m.message.id} className="border-t border-line py-3">
                        <MessageHead message={m.message} time={when(m.message.received_at)} />
                        {m.items.map((i) => (
                          <ItemLine key={i.id} item={i} />
                        ))}
                        <Steps steps={m.steps} />
                        {m.items.length + m.steps.length === 0 && (
                          <p className="mt-1 text-[13.5px] text-ink-2">
                            <Chip word={'no rule'} />{' '}
                            <Link className="text-pen hover:underline" to={`/messages/${m.message.id}`}>
                              <Trans>Why?</Trans>
                            </Link>
                          </p>
                        )}
                      </article>
                    ))}
                    {messages.hasNextPage && (
                      <p className="mt-4 text-center">
                        <Button onClick={() => void messages.fetchNextPage()} disabled={messages.isFetchingNextPage}>
                          <Trans>Show more</Trans>
                        </Button>
                      </p>
                    )}
                  </div>
                )}
              </Listing>
            </>
          )}
          {undoing && (
            <Undo what={{ pass: p.id }} onClose={() => setUndoing(false)} onDone={(id) => void go(`/history/${id}`)} />
          )}
        </Page>
      )}
    </Listing>
  )
}
