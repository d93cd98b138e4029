import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query'
import { Switch } from 'radix-ui'
import { Link, useNavigate } from 'react-router'

import { api, value } from '../api/client'
import { Bars, Button, Listing, Page, Wrong } from '../ui/basics'
import { many, when } from '../ui/format'

export function Rules() {
  const go = useNavigate()
  const client = useQueryClient()
  const query = useQuery({ queryKey: ['rules'], queryFn: () => value(api.GET('/api/v1/rules')) })
  const flip = useMutation({
    mutationFn: ({ id, on }: { id: string; on: boolean }) => value(api.POST(on ? '/api/v1/rules/{id}/on' : '/api/v1/rules/{id}/off', { params: { path: { id } } })),
    onSettled: () => client.invalidateQueries({ queryKey: ['rules'] }),
  })
  const order = useMutation({
    mutationFn: (ids: string[]) => value(api.PUT('/api/v1/rules/order', { body: ids })),
    onSuccess: (rules) => client.setQueryData(['rules'], rules),
  })
  const move = (from: number, to: number) => {
    const ids = (query.data ?? []).map((r) => r.id)
    ids.splice(to, 0, ...ids.splice(from, 1))
    order.mutate(ids)
  }
  return (
    <Page title="Rules" sub="A message goes through them from top to bottom." actions={<Button look="main" onClick={() => void go('/rules/new')}>New rule</Button>}>
      <Wrong error={flip.error ?? order.error} />
      <Listing query={query} empty={(r) => r.length === 0 && 'There is no rule yet. A rule says which messages, which attachments, and where they go.'}>
        {(rules) => (
          <ol>
            {rules.map((r, i) => (
              <li key={r.id} className="grid gap-x-6 gap-y-2 border-t border-line py-4 first:border-0 md:grid-cols-[minmax(0,1fr)_11rem_auto]">
                <div className="min-w-0">
                  <h2><Link to={`/rules/${r.id}`} className="hover:underline">{r.name}</Link></h2>
                  <p className={`text-[14.5px] [overflow-wrap:anywhere] ${r.problems ? 'text-seal' : 'text-ink-2'}`}>{r.sentence}</p>
                </div>
                <div>
                  <Bars days={r.days ?? []} label={`Filed by ${r.name} on each of the last thirty days`} height={60} />
                  <p className="text-[13px] text-ink-3">{many(r.filed, 'file')}{r.last_filed_at && `, last ${when(r.last_filed_at)}`}</p>
                </div>
                <div className="flex items-start gap-2">
                  <label className="flex items-center gap-2 text-sm">
                    <Switch.Root checked={r.running} onCheckedChange={(on) => flip.mutate({ id: r.id, on })} aria-label={`${r.name} is ${r.running ? 'on' : 'off'}`} className="h-[22px] w-[38px] rounded-full border border-line-2 bg-sheet-2 data-[state=checked]:border-moss data-[state=checked]:bg-moss">
                      <Switch.Thumb className="block h-4 w-4 translate-x-0.5 rounded-full bg-ink-3 transition-transform data-[state=checked]:translate-x-[18px] data-[state=checked]:bg-sheet" />
                    </Switch.Root>
                    <span className="w-6">{r.running ? 'on' : 'off'}</span>
                  </label>
                  <button className="add disabled:invisible" disabled={i === 0} onClick={() => move(i, i - 1)} aria-label={`Move ${r.name} up`}>↑</button>
                  <button className="add disabled:invisible" disabled={i === rules.length - 1} onClick={() => move(i, i + 1)} aria-label={`Move ${r.name} down`}>↓</button>
                </div>
              </li>
            ))}
          </ol>
        )}
      </Listing>
    </Page>
  )
}
