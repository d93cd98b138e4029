import { keepPreviousData, useInfiniteQuery, useQuery } from '@tanstack/react-query'
import { useMemo, useState } from 'react'
import { Link, useSearchParams } from 'react-router'

import { api, type Schemas, value } from '../api/client'
import { Button, Listing, Page } from '../ui/basics'
import { many, size, when } from '../ui/format'
import { Undo } from './undo'

type Node = { name: string; path: string; count: number; children: Map<string, Node> }

function tree(rows: Schemas['FolderCount'][]): Node[] {
  const cabinets = new Map<string, Node>()
  for (const r of rows) {
    let at = cabinets.get(r.cabinet)
    if (!at) cabinets.set(r.cabinet, (at = { name: r.cabinet, path: '', count: 0, children: new Map() }))
    at.count += r.count
    for (const part of r.folder.split('/').filter(Boolean)) {
      let next: Node | undefined = at.children.get(part)
      if (!next) at.children.set(part, (next = { name: part, path: at.path ? `${at.path}/${part}` : part, count: 0, children: new Map() }))
      at = next
      at.count += r.count
    }
  }
  return [...cabinets.values()]
}

export function Register() {
  const [search, setSearch] = useSearchParams()
  const text = search.get('text') ?? ''
  const folder = search.get('folder') ?? ''
  const cabinet = search.get('cabinet') ?? ''
  const set = (changes: Record<string, string>) => {
    const next = new URLSearchParams(search)
    for (const [k, v] of Object.entries(changes)) if (v) next.set(k, v); else next.delete(k)
    setSearch(next, { replace: 'text' in changes })
  }
  const folders = useQuery({ queryKey: ['register', 'folders'], queryFn: () => value(api.GET('/api/v1/register/folders')) })
  const list = useInfiniteQuery({
    queryKey: ['register', text, folder, cabinet],
    queryFn: ({ pageParam }) => value(api.GET('/api/v1/register', { params: { query: { text: text || undefined, folder: folder || undefined, cabinet: cabinet || undefined, after: pageParam || undefined, most: 60 } } })),
    initialPageParam: '',
    getNextPageParam: (last) => last.next,
    placeholderData: keepPreviousData,
  })
  const nodes = useMemo(() => tree(folders.data ?? []), [folders.data])
  const total = list.data?.pages[0].total
  const chosen = folder || cabinet
  return (
    <Page title="Register" sub={total === undefined ? 'All that was filed.' : `${many(total, 'filing')}${chosen ? ` in ${chosen}` : ''}${text ? ` with “${text}”` : ''}`}
      actions={<input type="search" aria-label="Search the register" placeholder="gauge certificate may…" className="field !w-80 max-w-[80vw]" value={text} onChange={(e) => set({ text: e.target.value })} />}>
      <div className="grid grid-cols-[minmax(0,1fr)] gap-7 lg:grid-cols-[15rem_minmax(0,1fr)]">
        <nav aria-label="Folders" className="text-[14px] leading-[1.85]">
          {nodes.map((n) => <Branch key={n.name} node={n} cabinet={n.name} open={folder} chosen={cabinet === n.name ? folder : null} onPick={(path) => set({ cabinet: n.name, folder: path })} />)}
          {chosen && <Button look="quiet" className="!px-0" onClick={() => set({ cabinet: '', folder: '' })}>All folders</Button>}
        </nav>
        <div className="min-w-0">
          <Listing query={{ data: list.data, error: list.error, isPending: list.isPending }} empty={(d) => d.pages[0].total === 0 && (text || chosen ? 'Nothing of that kind was filed.' : 'Nothing was filed yet. Once a rule is on, every file is entered here with its number.')}>
            {(d) => (
              <>
                <div className="overflow-x-auto" tabIndex={0} role="region" aria-label="Filings">
                  <table className="w-full text-[14.5px]">
                    <thead>
                      <tr className="border-b border-line-2 text-left text-[13px] text-ink-3">
                        {['No.', 'File', 'From', 'Received', 'Size'].map((h) => <th key={h} scope="col" className={`px-2.5 py-2 font-semibold ${h === 'Size' ? 'text-right' : ''}`}>{h}</th>)}
                      </tr>
                    </thead>
                    <tbody>
                      {d.pages.flatMap((p) => p.filings).map((f) => <Line key={f.entry} filing={f} />)}
                    </tbody>
                  </table>
                </div>
                {list.hasNextPage && <p className="mt-4 text-center"><Button onClick={() => void list.fetchNextPage()} disabled={list.isFetchingNextPage}>Show more</Button></p>}
              </>
            )}
          </Listing>
        </div>
      </div>
    </Page>
  )
}

function Line({ filing: f }: { filing: Schemas['Filing'] }) {
  const [open, setOpen] = useState(false)
  const [undoing, setUndoing] = useState(false)
  return (
    <>
      <tr className={`border-b border-line align-top ${open ? 'bg-pen-soft' : ''}`}>
        <td className="px-2.5 py-2 whitespace-nowrap">{f.entry}</td>
        <td className="px-2.5 py-2">
          <button className="text-left font-semibold [overflow-wrap:anywhere] hover:underline" aria-expanded={open} onClick={() => setOpen(!open)}>{f.file}</button>
          <div className="text-[13.5px] text-ink-2">{f.subject}</div>
        </td>
        <td className="px-2.5 py-2">{f.sender_name || f.sender_address}</td>
        <td className="px-2.5 py-2 whitespace-nowrap">{when(f.received_at)}</td>
        <td className="px-2.5 py-2 text-right whitespace-nowrap text-ink-2">{size(f.size)}</td>
      </tr>
      {open && (
        <tr className="border-b border-line bg-pen-soft">
          <td />
          <td colSpan={4} className="px-2.5 pb-4">
            <dl className="grid grid-cols-[7rem_1fr] gap-y-1 text-[14px] [overflow-wrap:anywhere]">
              <dt className="text-ink-2">Folder</dt><dd>{f.folder} <span className="text-ink-2">in {f.cabinet}</span></dd>
              <dt className="text-ink-2">Rule</dt><dd>{f.rule}</dd>
              <dt className="text-ink-2">From</dt><dd>{f.sender_address}, to {f.mailbox}</dd>
              <dt className="text-ink-2">Filed</dt><dd>{when(f.filed_at)}</dd>
              <dt className="text-ink-2">SHA-256</dt><dd className="text-[13px]">{f.sha256}</dd>
            </dl>
            <p className="mt-3 flex gap-4 text-sm font-semibold">
              <a className="text-pen hover:underline" href={`/api/v1/register/${f.entry}/file`} download>Download</a>
              <Link className="text-pen hover:underline" to={`/messages/${f.message}`}>The message</Link>
              <button className="text-pen hover:underline" onClick={() => setUndoing(true)}>Take it back…</button>
            </p>
            {undoing && <Undo what={{ item: f.item!, name: f.file }} onClose={() => setUndoing(false)} />}
          </td>
        </tr>
      )}
    </>
  )
}

function Branch({ node, open, chosen, onPick, depth = 0 }: { node: Node; cabinet: string; open: string; chosen: string | null; onPick: (path: string) => void; depth?: number }) {
  const here = chosen !== null && chosen === node.path
  const within = chosen !== null && (open === node.path || open.startsWith(node.path + '/'))
  const children = [...node.children.values()]
  return (
    <div className={depth > 0 ? 'border-l border-line-2 pl-4' : ''}>
      <button className={`hover:underline ${here || depth === 0 ? 'font-semibold' : ''} ${here ? 'text-pen' : ''}`} aria-current={here || undefined} onClick={() => onPick(node.path)}>{node.name} <span className="font-normal text-ink-3">{node.count.toLocaleString()}</span></button>
      {(depth === 0 || within) && children.map((c) => <Branch key={c.name} node={c} cabinet="" open={open} chosen={chosen} onPick={onPick} depth={depth + 1} />)}
    </div>
  )
}
