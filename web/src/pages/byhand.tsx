import { plural, t } from '@lingui/core/macro'
import { Plural, Trans } from '@lingui/react/macro'
import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query'
import { type DragEvent, type KeyboardEvent, useEffect, useState } from 'react'
import { Link } from 'react-router'

import { api, type Schemas, value } from '../api/client'
import { keys, queries } from '../api/queries'
import { Button, Field, Pick, Sheet, Tick, Wrong } from '../ui/basics'

/** What a person has in hand: messages, or single attachments of one. */
export type InHand = { number: number; items?: string[] }[]

const mime = 'application/x-inktray-hand'

/** Lets something be dragged onto a folder. */
export const draggable = (what: () => InHand) => ({
  draggable: true,
  onDragStart: (e: DragEvent) => {
    e.stopPropagation()
    e.dataTransfer.setData(mime, JSON.stringify(what()))
    e.dataTransfer.effectAllowed = 'copy'
  },
})

export const holdsHand = (e: DragEvent) => e.dataTransfer.types.includes(mime)

const count = (hand: InHand) => hand.reduce((n, m) => n + (m.items?.length ?? 0), 0)
const said = (hand: InHand) =>
  count(hand)
    ? plural(count(hand), { one: '# attachment', other: '# attachments' })
    : plural(hand.length, { one: '# message', other: '# messages' })

/** Files by hand; the pass that it became. */
export function useFiling(onDone?: () => void) {
  const client = useQueryClient()
  return useMutation({
    mutationFn: (b: { hand: InHand; cabinet: string; folder: string }) =>
      value(api.POST('/api/v1/by-hand/file', { body: { messages: b.hand, cabinet: b.cabinet, folder: b.folder } })),
    onSuccess: () => {
      void client.invalidateQueries({ queryKey: keys.passes })
      void client.invalidateQueries({ queryKey: keys.cabinetFolders })
      onDone?.()
    },
  })
}

/** What became of it, live, and the way back. */
export function Doing({ pass, onBack }: { pass: number; onBack: (pass: number) => void }) {
  const query = useQuery({ ...queries.pass(pass), refetchInterval: (q) => (q.state.data?.waiting ? 700 : false) })
  const client = useQueryClient()
  const p = query.data
  const ended = !!p && !p.waiting
  useEffect(() => {
    if (ended) void client.invalidateQueries({ queryKey: keys.look })
  }, [client, ended])
  if (!p) return null
  const done = p.filed + p.already_there
  const troubled = p.held + p.failed
  return (
    <p
      role="status"
      className="mb-4 flex flex-wrap items-center justify-between gap-3 rounded-lg bg-sheet-2 px-4 py-2.5"
    >
      <span>
        {p.waiting > 0
          ? t`${done} of ${done + p.waiting + troubled} filed…`
          : done > 0
            ? t`${plural(done, { one: '# file is', other: '# files are' })} filed ${p.note}.`
            : troubled
              ? ''
              : `${plural(p.total, { one: '# message', other: '# messages' })}: ${p.note}.`}
        {troubled > 0 && (
          <>
            {' '}
            <Link to="/tray" className="text-seal underline">
              <Trans>
                <Plural value={troubled} one="# waits" other="# wait" /> in the tray
              </Trans>
            </Link>
            .
          </>
        )}
      </span>
      <span className="flex gap-3">
        <Link to={`/history/${pass}`} className="text-pen hover:underline">
          <Trans>Pass {pass}</Trans>
        </Link>
        {p.undoable ? (
          <button className="add" onClick={() => onBack(pass)}>
            <Trans>Take it back…</Trans>
          </button>
        ) : null}
      </span>
    </p>
  )
}

/** The folders of a cabinet, opened level by level; things can be dropped on them. */
export function Folders({
  cabinet,
  chosen,
  onChoose,
  onDrop,
}: {
  cabinet: Schemas['Cabinet']
  chosen?: string
  onChoose?: (folder: string) => void
  onDrop?: (hand: InHand, folder: string) => void
}) {
  return (
    <ul role="tree" aria-label={t`Folders of ${cabinet.name}`} className="text-[14.5px]">
      <Level cabinet={cabinet.id} within="" depth={0} chosen={chosen} onChoose={onChoose} onDrop={onDrop} />
    </ul>
  )
}

function Level({
  cabinet,
  within,
  depth,
  chosen,
  onChoose,
  onDrop,
}: {
  cabinet: string
  within: string
  depth: number
  chosen?: string
  onChoose?: (folder: string) => void
  onDrop?: (hand: InHand, folder: string) => void
}) {
  const query = useQuery(queries.cabinetFolders(cabinet, within))
  if (query.error)
    return (
      <li role="none">
        <Wrong error={query.error} />
      </li>
    )
  if (query.data?.length === 0 && depth === 0)
    return (
      <li role="none" className="py-2 text-sm text-ink-3">
        <Trans>There is no folder yet. Type one.</Trans>
      </li>
    )
  return query.data?.map((name) => (
    <Branch
      key={name}
      cabinet={cabinet}
      path={within ? `${within}/${name}` : name}
      name={name}
      depth={depth}
      chosen={chosen}
      onChoose={onChoose}
      onDrop={onDrop}
    />
  ))
}

function Branch({
  cabinet,
  path,
  name,
  depth,
  chosen,
  onChoose,
  onDrop,
}: {
  cabinet: string
  path: string
  name: string
  depth: number
  chosen?: string
  onChoose?: (folder: string) => void
  onDrop?: (hand: InHand, folder: string) => void
}) {
  const [open, setOpen] = useState(false)
  const [over, setOver] = useState(false)
  const act = () => (onChoose ? onChoose(path) : setOpen(!open))
  useEffect(() => {
    // what is held over a folder opens it
    if (!over || open) return
    const timer = window.setTimeout(() => setOpen(true), 700)
    return () => window.clearTimeout(timer)
  }, [over, open])
  const key = (e: KeyboardEvent) => {
    const all = [
      ...(e.currentTarget.closest('[role=tree]')?.querySelectorAll<HTMLElement>('[role=treeitem] > div') ?? []),
    ]
    const at = all.indexOf(e.currentTarget as HTMLElement)
    if (e.key === 'ArrowRight') setOpen(true)
    else if (e.key === 'ArrowLeft') setOpen(false)
    else if (e.key === 'ArrowDown') all[at + 1]?.focus()
    else if (e.key === 'ArrowUp') all[at - 1]?.focus()
    else if (e.key === 'Enter' || e.key === ' ') act()
    else return
    e.preventDefault()
  }
  return (
    <li role="treeitem" aria-expanded={open} aria-selected={chosen === path} aria-label={name}>
      <div
        tabIndex={0}
        onKeyDown={key}
        onClick={act}
        style={{ paddingLeft: `${depth * 1.1}rem` }}
        className={`flex cursor-pointer items-center gap-1 rounded-md pr-2 ${over ? 'bg-pen-soft outline-2 outline-pen' : chosen === path ? 'bg-sheet-2 font-semibold' : 'hover:bg-sheet-2'}`}
        onDragOver={(e) => {
          if (onDrop && holdsHand(e)) {
            e.preventDefault()
            setOver(true)
          }
        }}
        onDragLeave={() => setOver(false)}
        onDrop={(e) => {
          setOver(false)
          if (!onDrop || !holdsHand(e)) return
          e.preventDefault()
          onDrop(JSON.parse(e.dataTransfer.getData(mime)) as InHand, path)
        }}
      >
        <button
          tabIndex={-1}
          aria-hidden
          className="w-5 shrink-0 py-1 text-ink-3"
          onClick={(e) => {
            e.stopPropagation()
            setOpen(!open)
          }}
        >
          {open ? '▾' : '▸'}
        </button>
        <span className="truncate py-1">{name}</span>
      </div>
      {open && (
        <ul role="group">
          <Level
            cabinet={cabinet}
            within={path}
            depth={depth + 1}
            chosen={chosen}
            onChoose={onChoose}
            onDrop={onDrop}
          />
        </ul>
      )}
    </li>
  )
}

const lastPlace = 'inktray.byhand'
type LastPlace = { cabinet?: string; folder?: string }
const remembered = (): LastPlace => {
  try {
    return JSON.parse(localStorage.getItem(lastPlace) ?? '{}') as LastPlace
  } catch {
    return {}
  }
}

/** Asks where to file, and files. */
export function FileSheet({
  hand,
  message,
  onClose,
  onBegun,
}: {
  hand: InHand
  message?: boolean
  onClose: () => void
  onBegun: (pass: number) => void
}) {
  const cabinets = useQuery(queries.cabinets)
  const [cabinet, setCabinet] = useState(remembered().cabinet ?? '')
  const [folder, setFolder] = useState(remembered().folder ?? '')
  const [whole, setWhole] = useState(false)
  const filing = useFiling()
  const one = cabinets.data?.find((c) => c.name === cabinet) ?? cabinets.data?.[0]
  const go = () =>
    one &&
    filing.mutate(
      {
        hand: whole ? hand.map((m) => ({ number: m.number, items: ['copy:eml'] })) : hand,
        cabinet: one.name,
        folder,
      },
      {
        onSuccess: (p) => {
          localStorage.setItem(lastPlace, JSON.stringify({ cabinet: one.name, folder }))
          onBegun(p.id)
          onClose()
        },
      },
    )
  return (
    <Sheet
      title={t`File ${whole ? plural(hand.length, { one: '# message', other: '# messages' }) : count(hand) ? said(hand) : t`the attachments of ${said(hand)}`}`}
      open
      onClose={onClose}
    >
      <form
        onSubmit={(e) => {
          e.preventDefault()
          go()
        }}
      >
        {(cabinets.data?.length ?? 0) > 1 && (
          <Pick
            label={t`Cabinet`}
            value={one?.name ?? ''}
            onChange={setCabinet}
            choices={cabinets.data!.map((c) => [c.name, c.name])}
          />
        )}
        <Field
          label={t`Folder`}
          required
          autoFocus
          value={folder}
          onChange={(e) => setFolder(e.target.value)}
          hint={t`Choose a folder below, or type one, such as Sorted by hand/2026. Ink Tray creates it if it is missing.`}
        />
        {one && (
          <div className="mb-4 max-h-56 overflow-auto rounded-lg border border-line p-2">
            <Folders cabinet={one} chosen={folder} onChoose={setFolder} />
          </div>
        )}
        {message && (
          <Tick
            className="mb-4"
            label={t`the message itself, as .eml, instead of its attachments`}
            checked={whole}
            onChange={(on) => setWhole(on)}
          />
        )}
        {cabinets.data?.length === 0 && (
          <Wrong error={new Error(t`There is no cabinet yet; an administrator adds one in Settings`)} />
        )}
        <Wrong error={filing.error} />
        <div className="flex justify-end gap-2">
          <Button onClick={onClose}>
            <Trans>Cancel</Trans>
          </Button>
          <Button look="main" type="submit" disabled={!one || filing.isPending}>
            <Trans>File</Trans>
          </Button>
        </div>
      </form>
    </Sheet>
  )
}

/** Asks what to do with messages in their mailbox, and does it. */
export function ChangeSheet({
  numbers,
  mailbox,
  onClose,
  onBegun,
}: {
  numbers: number[]
  mailbox?: string
  onClose: () => void
  onBegun: (pass: number) => void
}) {
  const client = useQueryClient()
  const [label, setLabel] = useState('')
  const [mark, setMark] = useState('')
  const [move, setMove] = useState('')
  const folders = useQuery(queries.folders(mailbox ?? ''))
  const change = useMutation({
    mutationFn: () =>
      value(
        api.POST('/api/v1/by-hand/change', {
          body: {
            messages: numbers,
            label: label.trim() ? [label.trim()] : undefined,
            mark: mark ? [mark as 'read'] : undefined,
            move: move.trim() || undefined,
          },
        }),
      ),
    onSuccess: (p) => {
      void client.invalidateQueries({ queryKey: keys.passes })
      onBegun(p.id)
      onClose()
    },
  })
  return (
    <Sheet
      title={t`${plural(numbers.length, { one: '# message', other: '# messages' })} in the mailbox`}
      open
      onClose={onClose}
    >
      <form
        onSubmit={(e) => {
          e.preventDefault()
          change.mutate()
        }}
      >
        <Field
          label={t`Put a label on`}
          value={label}
          onChange={(e) => setLabel(e.target.value)}
          hint={t`such as To file. A rule can ask for it.`}
        />
        <Pick
          label={t`Mark`}
          value={mark}
          onChange={setMark}
          choices={[
            ['', t`leave as it is`],
            ['read', t`read`],
            ['unread', t`unread`],
            ['flagged', t`flagged`],
            ['not flagged', t`not flagged`],
          ]}
        />
        <Field
          label={t`Move to the mail folder`}
          list="mail-folders"
          value={move}
          onChange={(e) => setMove(e.target.value)}
          hint={t`Ink Tray creates it if it is missing. Leave empty to move nothing.`}
        />
        <datalist id="mail-folders">
          {folders.data
            ?.filter((f) => f.selectable)
            .map((f) => (
              <option key={f.path} value={f.path} />
            ))}
        </datalist>
        <Wrong error={change.error} />
        <div className="flex justify-end gap-2">
          <Button onClick={onClose}>
            <Trans>Cancel</Trans>
          </Button>
          <Button look="main" type="submit" disabled={change.isPending || !(label.trim() || mark || move.trim())}>
            <Trans>Do it</Trans>
          </Button>
        </div>
      </form>
    </Sheet>
  )
}
