import { t } from '@lingui/core/macro'
import { Plural, Trans } from '@lingui/react/macro'
import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query'
import { useState } from 'react'
import { useNavigate } from 'react-router'

import { api, type Schemas, value } from '../api/client'
import { keys, queries } from '../api/queries'
import { OneOf } from '../letter/blanks'
import { Button, Field, Listing, Sheet, Tick, Wrong } from '../ui/basics'
import { when } from '../ui/format'

type Rule = Schemas['Rule']
type Request = Schemas['OldMailRequest']

/** How fast old mail is filed, and when. */
function Pace({ request, onChange }: { request: Request; onChange: (r: Request) => void }) {
  const [open, setOpen] = useState(!!request.per_minute || !!request.from)
  return (
    <div className="mb-4">
      <Tick
        label={t`limit the speed or the hours`}
        checked={open}
        onChange={(on) => {
          setOpen(on)
          if (!on) onChange({ ...request, per_minute: undefined, from: undefined, to: undefined })
        }}
      />
      {open && (
        <div className="mt-3 grid gap-x-3 sm:grid-cols-3">
          <Field
            label={t`Messages per minute, at most`}
            inputMode="numeric"
            value={request.per_minute ?? ''}
            onChange={(e) => onChange({ ...request, per_minute: Number(e.target.value) || undefined })}
            hint={t`Leave empty for no limit.`}
          />
          <Field
            label={t`From`}
            type="time"
            value={request.from ?? ''}
            onChange={(e) => onChange({ ...request, from: e.target.value || undefined })}
          />
          <Field
            label={t`To`}
            type="time"
            value={request.to ?? ''}
            onChange={(e) => onChange({ ...request, to: e.target.value || undefined })}
          />
        </div>
      )}
    </div>
  )
}

export function OldMail({ rule, onClose }: { rule: Rule; onClose: () => void }) {
  const client = useQueryClient()
  const [request, setRequest] = useState<Request>({})
  const begin = useMutation({
    mutationFn: () =>
      value(api.POST('/api/v1/rules/{id}/old-mail', { params: { path: { id: rule.id } }, body: request })),
    onSuccess: () => {
      void client.invalidateQueries({ queryKey: keys.passes })
      onClose()
    },
  })
  return (
    <Sheet title={t`File old mail`} open onClose={onClose}>
      <p className="mb-4 text-ink-2">
        <Trans>
          Files the mail that is in the rule’s folders already. Nothing is filed twice. You can pause or stop this at
          any time. It goes on when you close this page.
        </Trans>
      </p>
      <form
        onSubmit={(e) => {
          e.preventDefault()
          begin.mutate()
        }}
      >
        <Field
          label={t`Received on this day or later`}
          type="date"
          value={request.since ?? ''}
          onChange={(e) => setRequest({ ...request, since: e.target.value || undefined })}
          hint={t`Leave empty for everything.`}
        />
        <Field
          label={t`Only the most recent … messages`}
          inputMode="numeric"
          pattern="[0-9]*"
          value={request.most ?? ''}
          onChange={(e) => setRequest({ ...request, most: Number(e.target.value) || undefined })}
          hint={t`Leave empty for no limit.`}
        />
        <Pace request={request} onChange={setRequest} />
        <Wrong error={begin.error} />
        <div className="flex justify-end gap-2">
          <Button onClick={onClose}>
            <Trans>Cancel</Trans>
          </Button>
          <Button look="main" type="submit" disabled={begin.isPending}>
            <Trans>Begin</Trans>
          </Button>
        </div>
      </form>
    </Sheet>
  )
}

/** Switching on asks from where on. */
export function SwitchOn({ rule, onClose }: { rule: Rule; onClose: () => void }) {
  const client = useQueryClient()
  const [from, setFrom] = useState('now')
  const [request, setRequest] = useState<Request>({})
  const on = useMutation({
    mutationFn: () =>
      value(
        api.POST('/api/v1/rules/{id}/on', {
          params: { path: { id: rule.id } },
          body: from === 'now' ? {} : { old_mail: from === 'day' ? request : { ...request, since: undefined } },
        }),
      ),
    onSuccess: (r) => {
      client.setQueryData(queries.rule(r.id).queryKey, r)
      void client.invalidateQueries({ queryKey: keys.rules })
      void client.invalidateQueries({ queryKey: keys.passes })
      onClose()
    },
  })
  return (
    <Sheet title={t`Switch “${rule.name}” on`} open onClose={onClose}>
      <form
        onSubmit={(e) => {
          e.preventDefault()
          on.mutate()
        }}
      >
        <p className="mb-2">{rule.sentence}</p>
        {rule.notes?.map((n) => (
          <p key={n} className="my-2 rounded-lg bg-ochre-soft px-3 py-1.5 text-[14.5px] text-ochre">
            {n}
          </p>
        ))}
        <p className="mt-4 mb-1 text-sm font-semibold">
          <Trans>Which mail should this rule file?</Trans>
        </p>
        <OneOf
          name="from"
          value={from}
          onChange={setFrom}
          choices={[
            ['now', t`only mail that arrives from now on`, t`Mail that is there already is left alone.`],
            ['all', t`new mail, and everything already in these folders`],
            ['day', t`new mail, and mail received since a day`],
          ]}
        />
        {from === 'day' && (
          <div className="mt-2">
            <Field
              label={t`Received on this day or later`}
              type="date"
              required
              value={request.since ?? ''}
              onChange={(e) => setRequest({ ...request, since: e.target.value || undefined })}
            />
          </div>
        )}
        {from !== 'now' && (
          <div className="mt-2">
            <Pace request={request} onChange={setRequest} />
          </div>
        )}
        <Wrong error={on.error} />
        <div className="mt-5 flex justify-end gap-2">
          <Button onClick={onClose}>
            <Trans>Cancel</Trans>
          </Button>
          <Button look="main" type="submit" disabled={on.isPending}>
            <Trans>Switch on</Trans>
          </Button>
        </div>
      </form>
    </Sheet>
  )
}

/** What remains is said before a rule is removed. */
export function RemoveRule({ rule, onClose, onRemove }: { rule: Rule; onClose: () => void; onRemove: () => void }) {
  const client = useQueryClient()
  const go = useNavigate()
  const remains = useQuery(queries.ruleRemains(rule.id))
  const remove = useMutation({
    mutationFn: () => value(api.DELETE('/api/v1/rules/{id}', { params: { path: { id: rule.id } } })),
    onSuccess: () => {
      onRemove()
      void client.invalidateQueries({ queryKey: keys.rules })
      void go('/rules')
    },
  })
  return (
    <Sheet title={t`Remove “${rule.name}”?`} open onClose={onClose}>
      <Listing query={remains}>
        {(r) => (
          <ul className="list-disc space-y-1 pl-5">
            <li>
              <Trans>This rule then files nothing.</Trans>
            </li>
            <li>
              <Trans>
                The <Plural value={r.filed} one="# file" other="# files" /> that it filed stay in their folders and in
                the register.
              </Trans>
            </li>
            {r.waiting > 0 && (
              <li>
                <Plural
                  value={r.waiting}
                  one="# item of it waits in the tray and can be set aside there."
                  other="# items of it wait in the tray and can be set aside there."
                />
              </li>
            )}
            {r.underway > 0 && (
              <li>
                <Plural
                  value={r.underway}
                  one="# item that is begun is finished."
                  other="# items that are begun are finished."
                />
              </li>
            )}
            {r.dropped > 0 && (
              <li>
                <Plural
                  value={r.dropped}
                  one="# item that is only planned is not filed."
                  other="# items that are only planned are not filed."
                />
              </li>
            )}
            {r.sees_more.length > 0 && (
              <li>
                <Trans>
                  This rule kept messages from later rules. These rules then see them: {r.sees_more.join(', ')}.
                </Trans>
              </li>
            )}
          </ul>
        )}
      </Listing>
      <Wrong error={remove.error} />
      <div className="mt-5 flex justify-end gap-2">
        <Button onClick={onClose}>
          <Trans>Keep it</Trans>
        </Button>
        <Button look="seal" onClick={() => remove.mutate()}>
          <Trans>Remove</Trans>
        </Button>
      </div>
    </Sheet>
  )
}

export function Differences({ lines }: { lines: Schemas['DiffLine'][] }) {
  const changed = lines.filter((l) => l.in !== 'both')
  if (changed.length === 0) return null
  return (
    <ul className="mt-1 rounded-lg bg-sheet-2 px-3 py-2 text-[13.5px] leading-relaxed">
      {changed.map((l, i) => (
        <li key={i} className="grid grid-cols-[2.4rem_1fr] gap-2">
          <span className={l.in === 'was' ? 'text-seal' : 'text-moss'}>{l.in}</span>
          <span
            className={`[overflow-wrap:anywhere] whitespace-pre-wrap ${l.in === 'was' ? 'text-ink-3 line-through' : ''}`}
          >
            {l.text.trim()}
          </span>
        </li>
      ))}
    </ul>
  )
}

/** The states that a rule had, with what each changed. */
export function Revisions({ rule, onClose, onBack }: { rule: Rule; onClose: () => void; onBack: (r: Rule) => void }) {
  const all = useQuery(queries.revisions(rule.id, rule.revision))
  const back = useMutation({
    mutationFn: (number: number) =>
      value(
        api.POST('/api/v1/rules/{id}/revisions/{number}/bring-back', { params: { path: { id: rule.id, number } } }),
      ),
    onSuccess: onBack,
  })
  return (
    <Sheet title={t`Earlier versions of “${rule.name}”`} open onClose={onClose}>
      <Wrong error={back.error} />
      <Listing query={all}>
        {(list) =>
          list.map((r) => (
            <div key={r.number} className="border-t border-line py-3 first:border-0">
              <div className="flex flex-wrap items-center justify-between gap-2">
                <p>
                  <span className="font-semibold">
                    <Trans>Revision {r.number}</Trans>
                  </span>{' '}
                  <span className="text-ink-3">
                    <Trans>
                      {when(r.made_at)} by {r.made_by}
                    </Trans>
                  </span>
                </p>
                {r.present ? (
                  <span className="text-sm text-ink-3">
                    <Trans>as it is now</Trans>
                  </span>
                ) : (
                  <Button onClick={() => back.mutate(r.number)} disabled={back.isPending}>
                    <Trans>Bring back</Trans>
                  </Button>
                )}
              </div>
              <Differences lines={r.lines} />
              {r.lines.length === 0 && <p className="mt-1 text-[14.5px] text-ink-2">{r.sentence}</p>}
            </div>
          ))
        }
      </Listing>
      <div className="mt-4 flex justify-end">
        <Button onClick={onClose}>
          <Trans>Close</Trans>
        </Button>
      </div>
    </Sheet>
  )
}
