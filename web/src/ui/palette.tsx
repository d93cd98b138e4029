import { t } from '@lingui/core/macro'
import { Trans } from '@lingui/react/macro'
import { useQuery } from '@tanstack/react-query'
import { Dialog as Radix } from 'radix-ui'
import { useId, useState } from 'react'
import { useNavigate } from 'react-router'

import { queries } from '../api/queries'
import { type Goal, fitting, numberGoals } from './goals'

/** Goes to any page, rule, mailbox or number, and begins what is done most. It opens by Ctrl+K. */
export function Palette({ pages, onClose }: { pages: Goal[]; onClose: () => void }) {
  const go = useNavigate()
  const id = useId()
  const [text, setText] = useState('')
  const [at, setAt] = useState(0)
  const rules = useQuery(queries.rules).data ?? []
  const mailboxes = useQuery(queries.mailboxes).data ?? []
  const topics = useQuery(queries.topics).data ?? []
  const goals: Goal[] = [
    ...numberGoals(text),
    ...pages,
    ...rules.map((r) => ({ kind: t`Rule`, name: r.name, to: `/rules/${r.id}` })),
    ...mailboxes.map((m) => ({ kind: t`Mailbox`, name: m.name, to: `/mail?mailbox=${m.id}` })),
    ...topics.map((topic) => ({ kind: t`Topic`, name: topic.name, to: `/topics/${topic.id}` })),
  ]
  const fit = fitting(goals, text)
  const chosen = Math.min(at, fit.length - 1)
  const open = (g: Goal | undefined) => {
    if (!g) return
    onClose()
    void go(g.to)
  }
  return (
    <Radix.Root open onOpenChange={(o) => !o && onClose()}>
      <Radix.Portal>
        <Radix.Overlay className="fixed inset-0 z-30 bg-black/40" />
        <Radix.Content
          aria-describedby={undefined}
          className="fixed top-[12vh] left-1/2 z-40 w-[min(94vw,36rem)] -translate-x-1/2 rounded-xl border border-line bg-sheet p-3 shadow-sheet"
        >
          <Radix.Title className="sr-only">
            <Trans>Go to</Trans>
          </Radix.Title>
          <input
            className="field"
            role="combobox"
            aria-label={t`Go to a page, rule, mailbox, topic or number`}
            aria-expanded
            aria-controls={id}
            aria-activedescendant={fit[chosen] ? `${id}-${chosen}` : undefined}
            placeholder={t`Page, rule, mailbox, topic or number`}
            autoFocus
            value={text}
            onChange={(e) => {
              setText(e.target.value)
              setAt(0)
            }}
            onKeyDown={(e) => {
              const step = { ArrowDown: 1, ArrowUp: -1 }[e.key]
              if (step) {
                e.preventDefault()
                setAt((chosen + step + fit.length) % Math.max(fit.length, 1))
              } else if (e.key === 'Enter') {
                e.preventDefault()
                open(fit[chosen])
              }
            }}
          />
          <ul id={id} role="listbox" aria-label={t`Found`} className="mt-2 max-h-[50vh] overflow-auto">
            {fit.map((g, i) => (
              <li
                key={`${g.kind} ${g.name} ${g.to}`}
                id={`${id}-${i}`}
                role="option"
                aria-selected={i === chosen}
                ref={i === chosen ? (e) => e?.scrollIntoView({ block: 'nearest' }) : undefined}
                onClick={() => open(g)}
                className={`flex cursor-pointer justify-between gap-4 rounded-lg px-3 py-2 ${i === chosen ? 'bg-sheet-2 font-semibold' : 'hover:bg-sheet-2'}`}
              >
                <span className="min-w-0 truncate">{g.name}</span>
                <span className="shrink-0 text-sm font-normal text-ink-3">{g.kind}</span>
              </li>
            ))}
          </ul>
          <p role="status" className={fit.length ? 'sr-only' : 'px-3 py-4 text-ink-2'}>
            {fit.length ? t`${fit.length} found` : t`Nothing has this name.`}
          </p>
        </Radix.Content>
      </Radix.Portal>
    </Radix.Root>
  )
}
