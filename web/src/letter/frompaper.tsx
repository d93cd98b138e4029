import { t } from '@lingui/core/macro'
import { Plural, Trans } from '@lingui/react/macro'
import { useQuery } from '@tanstack/react-query'
import { useDeferredValue, useState } from 'react'

import type { Schemas } from '../api/client'
import { queries, type Selected } from '../api/queries'
import { Button, Field, Listing, Pick, Sheet, Wrong } from '../ui/basics'
import type { Value } from './document'

type Proposal = Schemas['ValueProposal']

/** Makes a value of a rule from a text that the person selects in a filed paper. */
export function FromPaper({
  rule,
  names,
  onAdd,
  onClose,
}: {
  /** The rule whose papers are offered; none for a rule that is not saved yet. */
  rule?: string
  /** Names that are taken. */
  names: string[]
  onAdd: (v: Value) => void
  onClose: () => void
}) {
  return (
    <Sheet wide title={t`Read a value from a paper`} open onClose={onClose}>
      <Papers rule={rule} names={names} onAdd={onAdd} onClose={onClose} />
    </Sheet>
  )
}

function Papers({ rule, names, onAdd, onClose }: Omit<Parameters<typeof FromPaper>[0], 'open'>) {
  const own = useQuery({ ...queries.lastFiled(rule), enabled: !!rule })
  const anyRule = useQuery({ ...queries.lastFiled(), enabled: !rule || own.data?.filings.length === 0 })
  const query = rule && own.data?.filings.length !== 0 ? own : anyRule
  const [chosen, setChosen] = useState('')
  return (
    <Listing
      query={query}
      empty={(r) =>
        r.filings.length === 0 &&
        t`No file is filed yet. File the first message, then come back and select the value in it.`
      }
    >
      {(r) => {
        const f = r.filings.find((x) => x.entry === chosen) ?? r.filings[0]
        return (
          <>
            <Pick
              label={t`Paper`}
              value={f.entry}
              choices={r.filings.map((x): [string, string] => [x.entry, `${x.entry}: ${x.file}`])}
              onChange={setChosen}
            />
            <Paper key={f.entry} f={f} names={names} onAdd={onAdd} onClose={onClose} />
          </>
        )
      }}
    </Listing>
  )
}

/** Which of the equal texts begins here. */
const occurrenceOf = (text: string, part: string, at: number) => {
  let n = 0
  for (let i = text.indexOf(part); i >= 0 && i < at; i = text.indexOf(part, i + part.length)) n++
  return n
}

function Paper({
  f,
  names,
  onAdd,
  onClose,
}: {
  f: Schemas['Filing']
  names: string[]
  onAdd: (v: Value) => void
  onClose: () => void
}) {
  const inside = useQuery(queries.inside(f.entry, false))
  const [selected, setSelected] = useState<Selected>({ selected: '', occurrence: 0, in: 'text' })
  const [tried, setTried] = useState(0)
  const asked = useDeferredValue(selected)
  const query = useQuery({ ...queries.valueProposals(f.entry, asked), enabled: asked.selected.trim() !== '' })
  const proposal = query.data?.proposals[tried]
  const selecting = (where: Selected['in']) => {
    const select = (e: { currentTarget: HTMLInputElement | HTMLTextAreaElement }) => {
      const { value, selectionStart: from, selectionEnd: to } = e.currentTarget
      const text = value.slice(from ?? 0, to ?? 0)
      const trimmed = text.trim()
      if (!trimmed || trimmed.length > 200) return
      const at = (from ?? 0) + text.indexOf(trimmed)
      const next = { selected: trimmed, occurrence: occurrenceOf(value, trimmed, at), in: where }
      if (JSON.stringify(next) === JSON.stringify(selected)) return
      setTried(0)
      setSelected(next)
    }
    // A browser tells of a selection in different ways, depending on how a person makes it.
    return { onSelect: select, onMouseUp: select, onKeyUp: select }
  }
  return (
    <>
      <p className="mb-3 text-ink-2">
        <Trans>
          Select the value with the mouse, or with Shift and the arrow keys. Ink Tray finds out how to read the value in
          other papers.
        </Trans>
      </p>
      <Field label={t`Subject`} readOnly value={f.subject} {...selecting('subject')} />
      <Listing query={inside}>
        {(r) =>
          r.text ? (
            <textarea
              readOnly
              aria-label={t`Text of the paper`}
              className="field mb-4 h-48 font-mono text-[13.5px]"
              value={r.text}
              {...selecting('text')}
            />
          ) : (
            <p className="mb-4 text-ink-2">
              <Trans>There is no text in this paper{r.problem ? `: ${r.problem}` : ''}.</Trans>
            </p>
          )
        }
      </Listing>
      {selected.selected && (
        <section aria-label={t`Proposals`}>
          <p className="mb-2">
            <Trans>
              You selected <strong className="[overflow-wrap:anywhere]">{selected.selected}</strong>
              {selected.in === 'subject' && t` in the subject`}.
            </Trans>
          </p>
          {query.isFetching ? (
            <p role="status" className="py-3 text-ink-3">
              <Trans>Ink Tray tries patterns in the last papers…</Trans>
            </p>
          ) : query.error ? (
            <Wrong error={query.error} />
          ) : (
            query.data && (
              <>
                <fieldset className="mb-3">
                  <legend className="sr-only">
                    <Trans>Pattern</Trans>
                  </legend>
                  {query.data.proposals.map((p, i) => (
                    <label key={p.from} className="flex items-baseline gap-2 py-0.5">
                      <input
                        type="radio"
                        name="proposal"
                        className="accent-[var(--pen)]"
                        checked={tried === i}
                        onChange={() => setTried(i)}
                      />
                      <span>
                        {p.how.charAt(0).toUpperCase() + p.how.slice(1)}
                        <span className="text-ink-3">
                          <Trans>
                            {' '}
                            · found in {p.found} of <Plural value={query.data.papers} one="# paper" other="# papers" />
                          </Trans>
                        </span>
                      </span>
                    </label>
                  ))}
                </fieldset>
                {proposal && <Findings of={proposal} />}
                {query.data.unread > 0 && (
                  <p className="mb-3 text-sm text-ink-3">
                    <Trans>
                      <Plural value={query.data.unread} one="# more paper" other="# more papers" /> without text.
                    </Trans>
                  </p>
                )}
                {query.data.more && (
                  <p className="mb-3 text-sm text-ink-3">
                    <Trans>Ink Tray did not try the other papers, because reading them takes too long.</Trans>
                  </p>
                )}
              </>
            )
          )}
        </section>
      )}
      <Naming key={proposal?.from ?? ''} of={proposal} names={names} onAdd={onAdd} onClose={onClose} />
    </>
  )
}

function Findings({ of: p }: { of: Proposal }) {
  return (
    <div tabIndex={0} aria-label={t`What the pattern finds`} role="group" className="mb-4 max-h-40 overflow-auto">
      <table aria-label={t`What the pattern finds`} className="w-full text-sm">
        <thead className="sr-only">
          <tr>
            <th>
              <Trans>Paper</Trans>
            </th>
            <th>
              <Trans>Value</Trans>
            </th>
          </tr>
        </thead>
        <tbody>
          {p.findings.map((x) => (
            <tr key={x.entry} className="border-b border-line last:border-0">
              <td className="py-1 pr-4 text-ink-3 [overflow-wrap:anywhere]">
                {x.entry} {x.file}
              </td>
              <td className={`py-1 ${x.value ? '' : 'text-ink-3'}`}>{x.value ?? x.problem ?? t`not found`}</td>
            </tr>
          ))}
        </tbody>
      </table>
    </div>
  )
}

const usual: Record<string, string[]> = { amount: ['total', 'amount'], date: ['due', 'date'], number: ['number'] }

function Naming({
  of: p,
  names,
  onAdd,
  onClose,
}: {
  of?: Proposal
  names: string[]
  onAdd: (v: Value) => void
  onClose: () => void
}) {
  const free = [...(usual[p?.type ?? ''] ?? []), 'order', ...Array.from({ length: 30 }, (_, i) => `value-${i + 1}`)]
  const [name, setName] = useState(free.find((n) => !names.includes(n))!)
  const wrong = names.includes(name)
    ? t`This rule already reads a value with this name.`
    : /^[a-z][a-z0-9-]{0,29}$/.test(name)
      ? undefined
      : t`Use small letters, digits and dashes, and begin with a letter.`
  return (
    <>
      {p && (
        <Field
          label={t`Name of the value`}
          value={name}
          hint={t`The value is a column of the register, and a field in names.`}
          error={wrong}
          onChange={(e) => setName(e.target.value)}
        />
      )}
      <div className="mt-2 flex justify-end gap-2">
        <Button onClick={onClose}>
          <Trans>Cancel</Trans>
        </Button>
        <Button
          look="main"
          disabled={!p || !!wrong}
          onClick={() =>
            onAdd({
              name,
              ...(p!.type !== 'text' && { type: p!.type }),
              ...(p!.decimal && { decimal: p!.decimal }),
              ...(p!.order && { order: p!.order }),
              from: p!.from,
            })
          }
        >
          <Trans>Add value</Trans>
        </Button>
      </div>
    </>
  )
}
