import { plural, t } from '@lingui/core/macro'
import { Plural, Trans } from '@lingui/react/macro'
import { keepPreviousData, useMutation, useQuery, useQueryClient } from '@tanstack/react-query'
import { useState } from 'react'
import { useNavigate, useParams } from 'react-router'

import { api, type Schemas, value } from '../api/client'
import { keys, queries } from '../api/queries'
import { Button, Chip, Listing, Page, Wrong } from '../ui/basics'
import { receivedAs, size, when } from '../ui/format'
import { ChangeSheet, Doing, FileSheet } from './byhand'
import { ItemLine, Steps } from './parts'
import { ProofOf, TopicsOf } from './topicmarks'
import { Undo } from './undo'

const verdict = (r: Schemas['RuleVerdict']) =>
  r.off
    ? 'off'
    : !r.looks
      ? 'looks elsewhere'
      : r.answer === 'yes'
        ? 'matches'
        : r.answer === 'no'
          ? 'does not match'
          : r.answer

/** Why something of a message was filed, or was not. */
export function Message() {
  const number = Number(useParams().id)
  const go = useNavigate()
  const [thorough, setThorough] = useState(false)
  const [byHand, setByHand] = useState<'' | 'file' | 'change'>('')
  const [doing, setDoing] = useState(0)
  const [back, setBack] = useState(0)
  const [undoing, setUndoing] = useState<Schemas['Item'] | null>(null)
  const client = useQueryClient()
  const again = useMutation({
    mutationFn: () => value(api.POST('/api/v1/messages/{number}/again', { params: { path: { number } } })),
    onSuccess: () => client.invalidateQueries({ queryKey: keys.message }),
  })
  const begun = (pass: number) => {
    setDoing(pass)
    void client.invalidateQueries({ queryKey: keys.message })
  }
  const query = useQuery({ ...queries.message(number, thorough), placeholderData: keepPreviousData })
  return (
    <Listing query={query}>
      {(x) => {
        const open = x.rules.some((r) => r.answer === 'not yet' || r.items.some((i) => i.unknown?.includes('contents')))
        return (
          <Page
            title={x.message.subject || t`No subject`}
            sub={t`From ${x.message.sender_name ? `${x.message.sender_name}, ` : ''}${x.message.sender_address}, received ${when(x.message.received_at)}${receivedAs(x.message.received_from)} in ${x.message.mailbox}, ${x.message.folder}. ${size(x.message.size)}, ${plural(x.message.attachments, { one: '# attachment', other: '# attachments' })}.`}
            actions={
              <>
                <Button look="main" onClick={() => setByHand('file')}>
                  <Trans>File by hand…</Trans>
                </Button>
                <Button onClick={() => setByHand('change')}>
                  <Trans>Label or move…</Trans>
                </Button>
                <Button onClick={() => void go(`/rules/new?from=${number}`)}>
                  <Trans>Make a rule from this</Trans>
                </Button>
              </>
            }
          >
            <ProofOf number={number} />
            {x.remark && (
              <p role="status" className="mb-4 max-w-5xl text-ink-2">
                {x.remark}
              </p>
            )}
            {doing > 0 && <Doing pass={doing} onBack={setBack} />}
            {byHand === 'file' && (
              <FileSheet hand={[{ number }]} message onClose={() => setByHand('')} onBegun={begun} />
            )}
            {byHand === 'change' && <ChangeSheet numbers={[number]} onClose={() => setByHand('')} onBegun={begun} />}
            {back > 0 && <Undo what={{ pass: back }} onClose={() => setBack(0)} />}
            <div className="grid max-w-5xl grid-cols-[minmax(0,1fr)] gap-8 lg:grid-cols-2">
              <section>
                <h2>
                  <Trans>What was decided</Trans>
                </h2>
                {x.decided.length === 0 && (
                  <p className="py-3 text-ink-2">
                    <Trans>Ink Tray filed nothing from this message, and nothing waits.</Trans>
                  </p>
                )}
                <Wrong error={again.error} />
                {x.decided.map((i) => (
                  <div key={i.id}>
                    <ItemLine item={i} />
                    {!i.undo && (i.verdict === 'filed' || i.verdict === 'already there') && (
                      <p className="ml-3 border-l-2 border-line-2 pl-3">
                        <button
                          className="add !text-sm"
                          aria-label={t`Take ${i.name} back`}
                          onClick={() => setUndoing(i)}
                        >
                          <Trans>Take it back…</Trans>
                        </button>
                      </p>
                    )}
                  </div>
                ))}
                {x.again > 0 && (
                  <p className="mt-3">
                    <Button onClick={() => again.mutate()} disabled={again.isPending}>
                      <Trans>File it again</Trans>
                    </Button>
                  </p>
                )}
                {x.steps.length > 0 && (
                  <>
                    <h2 className="mt-6">
                      <Trans>What was done with it</Trans>
                    </h2>
                    <Steps steps={x.steps} />
                  </>
                )}
                <TopicsOf number={number} />
              </section>
              <section>
                <div className="flex items-start justify-between gap-3">
                  <h2>
                    <Trans>What each rule decides</Trans>
                  </h2>
                  {open && !thorough && (
                    <Button onClick={() => setThorough(true)}>
                      <Trans>Read the texts</Trans>
                    </Button>
                  )}
                </div>
                {open && !thorough && (
                  <p className="text-sm text-ink-3">
                    <Trans>One answer depends on a text or an archive that was not read yet.</Trans>
                  </p>
                )}
                {x.rules.length === 0 && (
                  <p className="py-3 text-ink-2">
                    <Trans>There is no rule yet.</Trans>
                  </p>
                )}
                {x.rules.map((r) => (
                  <div key={r.rule} className="border-t border-line py-3 first-of-type:border-0">
                    <p className="flex justify-between gap-3 font-semibold">
                      {r.rule}
                      <Chip word={verdict(r)} />
                    </p>
                    <p className="text-[14.5px] [overflow-wrap:anywhere] text-ink-2">
                      {r.off
                        ? t`This rule is switched off.`
                        : r.looks
                          ? r.reason
                          : t`This rule does not look into this mailbox or folder.`}
                    </p>
                    {r.note && (
                      <p className="mt-1 rounded-lg bg-ochre-soft px-3 py-1.5 text-[14.5px] text-ochre">
                        {r.note.charAt(0).toUpperCase() + r.note.slice(1)}.
                      </p>
                    )}
                    {r.items.length + r.steps.length > 0 && (
                      <details className="text-[14.5px]">
                        <summary className="text-pen">
                          <Trans>
                            Try one rule: <Plural value={r.items.length} one="# attachment" other="# attachments" />
                          </Trans>
                        </summary>
                        {r.items.map((i) => (
                          <ItemLine key={i.item} item={i} />
                        ))}
                        <Steps steps={r.steps} />
                      </details>
                    )}
                  </div>
                ))}
              </section>
            </div>
            {undoing && <Undo what={{ item: undoing.id!, name: undoing.name }} onClose={() => setUndoing(null)} />}
          </Page>
        )
      }}
    </Listing>
  )
}
