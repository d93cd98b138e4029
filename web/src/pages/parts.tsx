import { Link } from 'react-router'

import type { Schemas } from '../api/client'
import { Chip } from '../ui/basics'
import { size } from '../ui/format'

/** One attachment with its verdict, and the path or the reason. */
export function ItemLine({ item }: { item: Schemas['Item'] }) {
  const taken = item.verdict === 'filed' && !!item.clash
  return (
    <div className="mt-2 ml-3 grid grid-cols-[1fr_auto] gap-x-3 border-l-2 border-line-2 pl-3">
      <span className="overflow-hidden text-ellipsis">{item.name} <span className="text-[13.5px] text-ink-3">{size(item.size)}</span></span>
      <span><Chip word={taken ? 'name taken' : item.verdict} /></span>
      <small className="col-span-2 text-[13.5px] [overflow-wrap:anywhere] text-ink-2">
        {item.verdict === 'filed' || (item.verdict === 'already there' && item.path) ? item.path : item.reason}
        {taken && <><br />{item.clash}</>}
        {item.verdict === 'filed' && item.reason.includes(';') && <><br />{item.reason}</>}
        {item.verdict === 'filed' && item.unknown?.some((u) => u.startsWith('register')) && <><br />The number is drawn when it is filed.</>}
        {item.verdict === 'filed' && item.unknown?.some((u) => !u.startsWith('register')) && <><br />The rest of the name is seen once the message is read.</>}
        {item.advice && item.verdict !== 'filed' && <>. {item.advice}</>}
      </small>
    </div>
  )
}

export function MessageHead({ message, time }: { message: Schemas['Message']; time: string }) {
  return (
    <>
      <div className="flex justify-between gap-3">
        {message.id ? <Link to={`/messages/${message.id}`} className="truncate font-semibold hover:underline">{message.subject || 'No subject'}</Link> : <span className="truncate font-semibold">{message.subject || 'No subject'}</span>}
        <time dateTime={message.received_at} className="shrink-0 text-[13.5px] text-ink-3">{time}</time>
      </div>
      <div className="truncate text-[13.5px] text-ink-3">{message.sender_name || message.sender_address}</div>
    </>
  )
}
