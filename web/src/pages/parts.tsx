import { t } from '@lingui/core/macro'
import { Trans } from '@lingui/react/macro'
import type { Schemas } from '../api/client'
import { Chip } from '../ui/basics'
import { size } from '../ui/format'
import { Of, To } from '../ui/office'
import { labelOf } from '../ui/labels'

/** One attachment with its verdict, and the path or the reason. */
export function ItemLine({ item }: { item: Schemas['Item'] }) {
  const taken = item.verdict === 'filed' && !!item.clash
  return (
    <div className="mt-2 ml-3 grid grid-cols-[1fr_auto] gap-x-3 border-l-2 border-line-2 pl-3">
      <span className="overflow-hidden text-ellipsis">
        {item.name} <span className="text-[13.5px] text-ink-3">{size(item.size)}</span>
      </span>
      <span>
        <Chip word={taken ? 'name taken' : item.verdict} />
      </span>
      <small className="col-span-2 text-[13.5px] [overflow-wrap:anywhere] text-ink-2">
        {item.verdict === 'filed' || (item.verdict === 'already there' && item.path) ? item.path : item.reason}
        {taken && (
          <>
            <br />
            {item.clash}
          </>
        )}
        {item.undo && (
          <>
            <br />
            {item.undo === 'asked' ? t`It is being taken back.` : item.reason}
          </>
        )}
        {!item.undo && item.verdict === 'filed' && item.reason.includes(';') && (
          <>
            <br />
            {item.reason}
          </>
        )}
        {item.verdict === 'filed' && item.unknown?.some((u) => u.startsWith('register')) && (
          <Trans>
            <br />
            The number is drawn when it is filed.
          </Trans>
        )}
        {item.verdict === 'filed' && item.unknown?.some((u) => !u.startsWith('register')) && (
          <Trans>
            <br />
            The rest of the name is seen once the message is read.
          </Trans>
        )}
        {item.values?.map((v) => (
          <span key={v.name} className="block">
            {v.name}: {v.text || t`not found${v.problem ? `, ${v.problem}` : ''}`}
          </span>
        ))}
        {item.advice && item.verdict !== 'filed' && <>. {item.advice}</>}
      </small>
    </div>
  )
}

const doing: Record<Schemas['Step']['kind'], (what: string) => string> = {
  mark: (w) => t`mark ${labelOf(w)}`,
  label: (w) => t`label “${w}”`,
  'remove label': (w) => t`take off the label “${w}”`,
  move: (w) => t`move to “${w}”`,
  return: (w) => t`move back to “${w}”`,
  reply: (w) => t`reply to ${w}`,
  draft: (w) => t`draft of a reply to ${w}`,
  tell: (w) => t`tell ${w}`,
}

/** What is done with a message afterwards. */
export function Steps({ steps }: { steps: Schemas['Step'][] }) {
  if (steps.length === 0) return null
  return (
    <ul aria-label={t`Afterwards`} className="mt-2 ml-3 border-l-2 border-line-2 pl-3 text-[14px]">
      {steps.map((s, i) => (
        <li key={s.id ?? i} className="grid grid-cols-[1fr_auto] gap-x-3 py-0.5">
          <span className="[overflow-wrap:anywhere] text-ink-2">
            {doing[s.kind](s.what)}
            {s.reason && <small className="block text-[13.5px] text-ink-3">{s.reason}</small>}
          </span>
          <span>
            <Chip word={s.state === 'to do' ? 'afterwards' : s.state === 'unsure' ? 'may be sent' : s.state} />
          </span>
        </li>
      ))}
    </ul>
  )
}

/** The head of a message; of is the machine that it is of, which is written only where that is not clear. */
export function MessageHead({
  message,
  time,
  of,
  written,
}: {
  message: Schemas['Message']
  time: string
  of?: string
  written?: boolean
}) {
  return (
    <>
      <div className="flex justify-between gap-3">
        {message.id ? (
          <To of={of} to={`/messages/${message.id}`} className="truncate font-semibold hover:underline">
            {message.subject || t`No subject`}
          </To>
        ) : (
          <span className="truncate font-semibold">{message.subject || t`No subject`}</span>
        )}
        <time dateTime={message.received_at} className="shrink-0 text-[13.5px] text-ink-3">
          {time}
        </time>
      </div>
      <div className="truncate text-[13.5px] text-ink-3">
        {message.sender_name || message.sender_address} {written && <Of machine={of} />}
      </div>
    </>
  )
}
