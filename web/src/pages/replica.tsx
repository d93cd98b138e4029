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
      <h2 className="mb-2">Replica</h2>
      <Listing
        query={query}
        empty={(r) =>
          !r.kept &&
          'No copy follows the changes as they happen. The service keeps one at another place when it is started with --replica, and a second machine can take over from it.'
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
        {r.problem ? <Chip word="failed" /> : r.at && <Chip word={r.behind_seconds > 10 ? 'late' : 'in order'} />}
      </div>
      <p className="text-sm text-ink-3">
        {!r.at
          ? 'Nothing is in it yet.'
          : r.behind_seconds > 0
            ? `It is ${Math.max(1, Math.round(r.behind_seconds))} s behind.`
            : 'It has everything.'}
        {r.earliest && ` States from ${when(r.earliest)} on can be restored from it.`}
      </p>
      {r.problem && (
        <p className="text-sm text-seal">
          It cannot be written{r.problem_since && ` since ${when(r.problem_since)}`}: {sentence(r.problem)}
        </p>
      )}
      {r.takes_turns ? (
        <>
          <p className="mt-2">
            The machine “{r.machine}” works. One that waits takes over once it is silent for {r.lease_seconds} seconds.
          </p>
          {r.waiting_problem && (
            <p className="text-sm text-seal">Those that wait cannot be listed: {sentence(r.waiting_problem)}</p>
          )}
          {r.waiting.length === 0 && (
            <p className="text-sm text-seal">No machine waits. Start one with inktray standby.</p>
          )}
          <ul>
            {r.waiting.map((w) => (
              <li key={w.machine} className="mt-2 flex flex-wrap items-center justify-between gap-3">
                <span className="min-w-0 flex-1 basis-72">
                  <span className="font-semibold">{w.machine}</span>{' '}
                  <span className="text-sm text-ink-3">
                    {w.problem
                      ? `could not take over: ${sentence(w.problem)}`
                      : w.ready
                        ? 'waits, and its copy has everything'
                        : w.fresh
                          ? 'has not been heard of lately'
                          : 'is still copying'}
                  </span>
                </span>
                <Button disabled={!w.ready} onClick={() => onTurn(w)}>
                  Let {w.machine} take over
                </Button>
              </li>
            ))}
          </ul>
        </>
      ) : (
        <p className="text-sm text-ink-3">No other machine may take over: the service runs without --lease.</p>
      )}
    </div>
  )
}

function TurnSheet({ machine, onClose }: { machine: Schemas['WaitingMachine']; onClose: () => void }) {
  const give = useMutation({
    mutationFn: () => value(api.POST('/api/v1/replica/turn', { body: { machine: machine.machine } })),
  })
  return (
    <Sheet title={`Let “${machine.machine}” take over?`} open onClose={onClose}>
      {give.isSuccess ? (
        <p>“{machine.machine}” takes over. This machine answers no more: open Ink Tray at the address of that one.</p>
      ) : (
        <>
          <p className="mb-4">
            This machine ends its work first, so nothing is lost. It answers no more then: Ink Tray is at the address of
            “{machine.machine}”.
          </p>
          <Wrong error={give.error} />
          <div className="mt-5 flex justify-end gap-2">
            <Button onClick={onClose}>Leave it as it is</Button>
            <Button look="main" onClick={() => give.mutate()} disabled={give.isPending}>
              Let it take over
            </Button>
          </div>
        </>
      )}
    </Sheet>
  )
}
