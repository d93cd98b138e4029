import { t } from '@lingui/core/macro'
import { Trans } from '@lingui/react/macro'
import { useMutation, useQuery } from '@tanstack/react-query'
import { useState } from 'react'

import { api, Problem, type Schemas, value } from '../api/client'
import { queries } from '../api/queries'
import { Button, Chip, Listing, Sheet, Wrong } from '../ui/basics'
import { sentence } from '../ui/form'
import { when } from '../ui/format'

/** How the copy of the installation does that follows each change, and which machines wait. For administrators. */
export function Replica() {
  const [turn, setTurn] = useState<Schemas['WaitingMachine'] | null>(null)
  const query = useQuery({
    ...queries.replica,
    retry: false,
    refetchInterval: (q) => (q.state.data?.kept ? 3000 : false),
  })
  if (query.error instanceof Problem && query.error.status === 403) return null
  return (
    <section className="mb-10 max-w-4xl" id="replica">
      <h2 className="mb-2">
        <Trans>Replica</Trans>
      </h2>
      <Listing
        query={query}
        empty={(r) =>
          !r.kept &&
          t`There is no replica. A replica is a copy that follows every change within seconds. Start the service with --replica to keep one. A second machine can then take over.`
        }
      >
        {(r) => <State r={r} onTurn={setTurn} />}
      </Listing>
      {turn && <TurnSheet machine={turn} onClose={() => setTurn(null)} />}
    </section>
  )
}

function State({ r, onTurn }: { r: Schemas['Replica']; onTurn: (w: Schemas['WaitingMachine']) => void }) {
  return (
    <div className="border-t border-line py-3">
      <div className="flex flex-wrap items-start justify-between gap-3">
        <p className="min-w-0 flex-1 basis-72 font-semibold [overflow-wrap:anywhere]">{r.place}</p>
        {r.problem ? <Chip word={'failed'} /> : r.at && <Chip word={r.behind_seconds > 10 ? t`late` : t`in order`} />}
      </div>
      <p className="text-sm text-ink-3">
        {!r.at
          ? t`It is still empty.`
          : r.behind_seconds > 0
            ? t`It is ${Math.max(1, Math.round(r.behind_seconds))} s behind.`
            : t`It has everything.`}
        {r.earliest && t` You can restore any state since ${when(r.earliest)}.`}
      </p>
      {r.problem && (
        <p className="text-sm text-seal">
          <Trans>
            It cannot be written{r.problem_since && t` since ${when(r.problem_since)}`}: {sentence(r.problem)}
          </Trans>
        </p>
      )}
      {r.takes_turns ? (
        <>
          <p className="mt-2">
            <Trans>
              The machine “{r.machine}” works. One that waits takes over once it is silent for {r.lease_seconds}{' '}
              seconds.
            </Trans>
          </p>
          {r.waiting_problem && (
            <p className="text-sm text-seal">
              <Trans>The waiting machines cannot be listed: {sentence(r.waiting_problem)}</Trans>
            </p>
          )}
          {r.waiting.length === 0 && (
            <p className="text-sm text-seal">
              <Trans>No other machine is ready to take over. Start one with inktray standby.</Trans>
            </p>
          )}
          <ul>
            {r.waiting.map((w) => (
              <li key={w.machine} className="mt-2 flex flex-wrap items-center justify-between gap-3">
                <span className="min-w-0 flex-1 basis-72">
                  <span className="font-semibold">{w.machine}</span>{' '}
                  <span className="text-sm text-ink-3">
                    {w.problem
                      ? t`could not take over: ${sentence(w.problem)}`
                      : w.ready
                        ? t`waits, and its copy has everything`
                        : w.fresh
                          ? t`has not been heard of lately`
                          : t`is still copying`}
                  </span>
                </span>
                <Button disabled={!w.ready} onClick={() => onTurn(w)}>
                  <Trans>Let {w.machine} take over</Trans>
                </Button>
              </li>
            ))}
          </ul>
        </>
      ) : (
        <p className="text-sm text-ink-3">
          <Trans>No other machine can take over, because the service runs without --lease.</Trans>
        </p>
      )}
    </div>
  )
}

function TurnSheet({ machine, onClose }: { machine: Schemas['WaitingMachine']; onClose: () => void }) {
  const give = useMutation({
    mutationFn: () => value(api.POST('/api/v1/replica/turn', { body: { machine: machine.machine } })),
  })
  return (
    <Sheet title={t`Let “${machine.machine}” take over?`} open onClose={onClose}>
      {give.isSuccess ? (
        <p>
          <Trans>
            “{machine.machine}” takes over. This machine stops. Open Ink Tray at the address of the other one.
          </Trans>
        </p>
      ) : (
        <>
          <p className="mb-4">
            <Trans>
              This machine first finishes its work, so nothing is lost. Then it stops, and Ink Tray is at the address of
              “{machine.machine}”.
            </Trans>
          </p>
          <Wrong error={give.error} />
          <div className="mt-5 flex justify-end gap-2">
            <Button onClick={onClose}>
              <Trans>Cancel</Trans>
            </Button>
            <Button look="main" onClick={() => give.mutate()} disabled={give.isPending}>
              <Trans>Let it take over</Trans>
            </Button>
          </div>
        </>
      )}
    </Sheet>
  )
}
