import { plural, t } from '@lingui/core/macro'
import { Trans } from '@lingui/react/macro'
import { useQuery } from '@tanstack/react-query'
import { Fragment, useEffect, useRef, useState } from 'react'

import { Problem, type Schemas } from '../api/client'
import { queries } from '../api/queries'
import { Button, Listing } from '../ui/basics'
import { size } from '../ui/format'
import { address } from '../api/where'

type Kind = Schemas['Story']['preview']
type Place = Schemas['ValuePlace']

/** The file, and the message, as far as they can be shown without running anything of them. */
export function Preview({
  filing: f,
  kind,
  places = [],
  marked = '',
}: {
  filing: Schemas['Filing']
  kind: Kind
  places?: Place[]
  marked?: string
}) {
  const [view, setView] = useState<'file' | 'inside' | 'message'>(/\.xml$/i.test(f.file) ? 'inside' : 'file')
  const me = useQuery(queries.me)
  const tab = (v: typeof view, name: string) => (
    <button
      aria-current={view === v || undefined}
      className={`border-b-2 px-3 py-1.5 text-sm font-semibold ${view === v ? 'border-ink' : 'border-transparent text-ink-2 hover:text-ink'}`}
      onClick={() => setView(v)}
    >
      {name}
    </button>
  )
  return (
    <section aria-label={t`Preview`} className="min-w-0">
      <div className="mb-3 border-b border-line">
        {tab('file', t`The file`)}
        {f.state === 'filed' && tab('inside', t`What is read in it`)}
        {me.data && me.data.role !== 'reader' && tab('message', t`The message`)}
      </div>
      {view === 'inside' ? (
        <Inside f={f} />
      ) : view === 'message' ? (
        <iframe
          title={t`The message`}
          sandbox=""
          className="h-[70vh] w-full rounded-lg border border-line bg-white"
          src={address(`/api/v1/messages/${f.message}/page`)}
        />
      ) : kind === 'none' ? (
        <p className="text-ink-2">
          {f.state === 'filed'
            ? t`A file of this kind cannot be shown here. Download it to open it.`
            : t`There is no file to be shown.`}
        </p>
      ) : kind === 'pdf' ? (
        <PDF key={places.find((p) => p.value === marked)?.page ?? 1} f={f} places={places} marked={marked} />
      ) : kind === 'picture' ? (
        <Picture f={f} places={places} marked={marked} />
      ) : (
        <Words f={f} table={kind === 'table'} />
      )}
    </section>
  )
}

const mostText = 256 * 1024

async function octets(entry: string, first?: number): Promise<ArrayBuffer> {
  const response = await fetch(address(`/api/v1/register/${entry}/file${first ? `?first=${first}` : ''}`))
  if (!response.ok) throw new Problem((await response.json().catch(() => ({}))) as object, response.status)
  return response.arrayBuffer()
}

const useOctets = (f: Schemas['Filing'], first?: number) =>
  useQuery({
    queryKey: ['file', f.entry, f.checked_at, first],
    queryFn: () => octets(f.entry, first),
    retry: false,
    gcTime: 30_000,
    staleTime: Infinity,
  })

/** Text is UTF-8, UTF-16 where it says so, else Windows-1252, as most old programs write. */
function decode(data: ArrayBuffer): string {
  const b = new Uint8Array(data)
  if (b[0] === 0xff && b[1] === 0xfe) return new TextDecoder('utf-16le').decode(b)
  if (b[0] === 0xfe && b[1] === 0xff) return new TextDecoder('utf-16be').decode(b)
  try {
    return new TextDecoder('utf-8', { fatal: true }).decode(b, { stream: true })
  } catch {
    return new TextDecoder('windows-1252').decode(b)
  }
}

function Words({ f, table }: { f: Schemas['Filing']; table: boolean }) {
  const query = useOctets(f, mostText)
  return (
    <Listing query={query}>
      {(data) => {
        const text = decode(data)
        const cut = f.size > mostText
        return (
          <>
            {table ? (
              <Table text={cut ? text.slice(0, text.lastIndexOf('\n')) : text} />
            ) : (
              <pre
                tabIndex={0}
                aria-label={t`The file’s text`}
                className="max-h-[70vh] overflow-auto rounded-lg border border-line bg-sheet-2 p-4 text-[13.5px] whitespace-pre-wrap [overflow-wrap:anywhere]"
              >
                {text}
              </pre>
            )}
            {cut && (
              <p className="mt-2 text-sm text-ink-3">
                <Trans>
                  The first {size(mostText)} of {size(f.size)}.
                </Trans>
              </p>
            )}
          </>
        )
      }}
    </Listing>
  )
}

const mostRows = 500

/** Rows of a table in text (RFC 4180), parted by what parts the first line most often. */
export function rowsOf(text: string): string[][] {
  const first = text.slice(0, text.search(/[\r\n]|$/))
  const between = [',', ';', '\t', '|'].toSorted((a, b) => first.split(b).length - first.split(a).length)[0]
  const rows: string[][] = []
  let row: string[] = []
  let cell = ''
  let quoted = false
  for (let i = text.startsWith('\ufeff') ? 1 : 0; i < text.length && rows.length <= mostRows; i++) {
    const c = text[i]
    if (quoted) {
      if (c !== '"') cell += c
      else if (text[i + 1] === '"') {
        cell += '"'
        i++
      } else quoted = false
    } else if (c === '"' && cell === '') quoted = true
    else if (c === between) {
      row.push(cell)
      cell = ''
    } else if (c === '\n' || c === '\r') {
      if (c === '\r' && text[i + 1] === '\n') i++
      row.push(cell)
      if (row.length > 1 || cell) rows.push(row)
      row = []
      cell = ''
    } else cell += c
  }
  if (cell || row.length) rows.push([...row, cell])
  return rows
}

function Table({ text }: { text: string }) {
  const [head = [], ...rows] = rowsOf(text)
  return (
    <>
      <div
        tabIndex={0}
        role="region"
        aria-label={t`The file’s table`}
        className="max-h-[70vh] overflow-auto rounded-lg border border-line"
      >
        <table aria-label={t`The file’s table`} className="w-full text-[13.5px]">
          <thead>
            <tr className="sticky top-0 bg-sheet-2 text-left">
              {head.map((c, i) => (
                <th key={i} scope="col" className="border-b border-line-2 px-2.5 py-1.5 font-semibold">
                  {c}
                </th>
              ))}
            </tr>
          </thead>
          <tbody>
            {rows.slice(0, mostRows).map((r, i) => (
              <tr key={i} className="border-b border-line">
                {r.map((c, k) => (
                  <td key={k} className={`px-2.5 py-1 ${/^-?[\d.,]+$/.test(c) ? 'text-right' : ''}`}>
                    {c}
                  </td>
                ))}
              </tr>
            ))}
          </tbody>
        </table>
      </div>
      {rows.length > mostRows && (
        <p className="mt-2 text-sm text-ink-3">
          <Trans>The first {mostRows} lines.</Trans>
        </p>
      )}
    </>
  )
}

/** The text inside, and the electronic invoice that the file is or holds. */
function Inside({ f }: { f: Schemas['Filing'] }) {
  const query = useQuery(queries.inside(f.entry, true))
  return (
    <Listing query={query}>
      {(r) => (
        <>
          {r.invoice && <Invoice of={r.invoice} />}
          {r.sure && (
            <p className="mb-2 text-sm text-ink-3">
              <Trans>Read from a scan, {r.sure} % sure.</Trans>
            </p>
          )}
          {r.problem && <p className="mb-2 text-ink-2 first-letter:uppercase">{r.problem}.</p>}
          {r.text && (
            <pre
              tabIndex={0}
              aria-label={t`The text inside`}
              className="max-h-[70vh] overflow-auto rounded-lg border border-line bg-sheet-2 p-4 text-[13.5px] whitespace-pre-wrap [overflow-wrap:anywhere]"
            >
              {r.text}
            </pre>
          )}
          {r.codes && (
            <dl aria-label={t`Codes`} className="mt-4 grid grid-cols-[max-content_1fr] gap-x-4 gap-y-1">
              {r.codes.map((c) => (
                <Fragment key={c.kind + c.text + c.page}>
                  <dt className="text-ink-3">
                    <Trans>
                      {c.kind}, page {c.page}
                    </Trans>
                  </dt>
                  <dd className="[overflow-wrap:anywhere]">{c.text}</dd>
                </Fragment>
              ))}
            </dl>
          )}
          {r.codes_problem && r.codes_problem !== r.problem && (
            <p className="mt-2 text-sm text-ink-3">
              <Trans>Codes: {r.codes_problem}.</Trans>
            </p>
          )}
          {r.cut && (
            <p className="mt-2 text-sm text-ink-3">
              <Trans>The first {size(64 * 1024)} of it.</Trans>
            </p>
          )}
        </>
      )}
    </Listing>
  )
}

function Invoice({ of: i }: { of: Schemas['ElectronicInvoice'] }) {
  const money = (amount?: string) => amount && `${amount} ${i.currency ?? ''}`
  const lines: [string, string | undefined][] = [
    [t`Number`, i.number],
    [t`Issued`, i.issued],
    [t`To be paid by`, i.due],
    [t`Seller`, i.seller],
    [t`VAT number`, i.seller_vat],
    [t`Buyer`, i.buyer],
    [t`Order`, i.order],
    [t`Reference`, i.reference],
    [t`Without tax`, money(i.net)],
    [t`Tax`, money(i.tax)],
    [t`Total`, money(i.total)],
    [t`To be paid`, money(i.payable)],
  ]
  return (
    <section
      aria-label={t`The electronic invoice`}
      className="mb-4 rounded-lg border border-line bg-sheet-2 p-4 text-[15px]"
    >
      <h3 className="mb-2 font-semibold">
        {i.credit_note ? t`Electronic credit note` : t`Electronic invoice`}{' '}
        <span className="font-normal text-ink-3">
          <Trans>EN 16931, {i.syntax}</Trans>
        </span>
      </h3>
      <dl className="grid grid-cols-[8rem_minmax(0,1fr)] gap-y-1 [overflow-wrap:anywhere]">
        {lines
          .filter(([, v]) => v)
          .map(([name, v]) => (
            <div key={name} className="contents">
              <dt className="text-ink-2">{name}</dt>
              <dd className={name === 'Total' ? 'font-semibold' : ''}>{v}</dd>
            </div>
          ))}
      </dl>
      {i.faults.length === 0 ? (
        <p className="mt-3 text-sm text-ink-2">
          <Trans>Its sums add up.</Trans>
        </p>
      ) : (
        <ul className="mt-3 text-sm text-seal">
          {i.faults.map((x) => (
            <li key={x.rule}>
              {x.text} ({x.rule})
            </li>
          ))}
        </ul>
      )}
    </section>
  )
}

/** Where values stand on a page, over its picture. */
function Marks({ places, page, marked }: { places: Place[]; page: number; marked: string }) {
  return places
    .filter((p) => p.page === page)
    .map((p, i) => (
      <span
        key={i}
        title={p.value}
        data-value={p.value}
        className={`absolute rounded-sm ${p.value === marked ? 'bg-pen/25 outline-2 outline-pen' : 'bg-pen/10 outline outline-pen/50'}`}
        style={{
          left: `${p.left * 100 - 0.3}%`,
          top: `${p.top * 100 - 0.2}%`,
          width: `${p.width * 100 + 0.6}%`,
          height: `${p.height * 100 + 0.4}%`,
        }}
      />
    ))
}

const mostPixels = 100_000_000

function Picture({ f, places, marked }: { f: Schemas['Filing']; places: Place[]; marked: string }) {
  const query = useOctets(f)
  const canvas = useRef<HTMLCanvasElement>(null)
  const [said, setSaid] = useState('')
  useEffect(() => {
    if (!query.data) return
    let gone = false
    void createImageBitmap(new Blob([query.data])).then(
      (picture) => {
        const to = canvas.current
        if (gone || !to) return
        if (picture.width * picture.height > mostPixels)
          return setSaid(t`The picture has ${picture.width} × ${picture.height} dots, too many to be shown here.`)
        const scale = Math.min(1, 2000 / Math.max(picture.width, picture.height))
        to.width = picture.width * scale
        to.height = picture.height * scale
        to.getContext('2d')!.drawImage(picture, 0, 0, to.width, to.height)
        setSaid(t`${picture.width} × ${picture.height} dots, ${size(f.size)}`)
      },
      () => !gone && setSaid(t`The picture cannot be read. Download it to look at it.`),
    )
    return () => {
      gone = true
    }
  }, [query.data, f.size])
  return (
    <Listing query={query}>
      {() => (
        <>
          <div className="relative inline-block max-w-full">
            <canvas
              ref={canvas}
              role="img"
              aria-label={f.file}
              className="max-h-[70vh] max-w-full rounded-lg border border-line bg-white"
            />
            <Marks places={places} page={1} marked={marked} />
          </div>
          <p role="status" className="mt-2 text-sm text-ink-3">
            {said}
          </p>
        </>
      )}
    </Listing>
  )
}

const faces = import.meta.glob<string>('../../node_modules/pdfjs-dist/standard_fonts/*.{pfb,ttf}', {
  query: '?url',
  import: 'default',
})

/** The fourteen typefaces that a document need not bring along (ISO 32000-1, section 9.6.2.2). */
class Typefaces {
  async fetch({ filename }: { filename: string }) {
    const url = await Object.entries(faces).find(([path]) => path.endsWith('/' + filename))?.[1]()
    if (!url) throw new Error(t`there is no ${filename}`)
    return new Uint8Array(await (await fetch(url)).arrayBuffer())
  }
}

/** Pages are drawn one at a time; nothing of the document runs. */
function PDF({ f, places, marked }: { f: Schemas['Filing']; places: Place[]; marked: string }) {
  const query = useOctets(f)
  const canvas = useRef<HTMLCanvasElement>(null)
  const [page, setPage] = useState(places.find((p) => p.value === marked)?.page ?? 1)
  const [state, setState] = useState<{ pages: number; wrong?: string }>({ pages: 0 })
  const text = useRef<HTMLDivElement>(null)
  useEffect(() => {
    if (!query.data) return
    let gone = false
    const data = new Uint8Array(query.data.slice(0)) // the reader takes it away
    const draw = async () => {
      const pdf = await import('pdfjs-dist')
      pdf.GlobalWorkerOptions.workerSrc = (await import('pdfjs-dist/build/pdf.worker.min.mjs?url')).default
      const task = pdf.getDocument({
        data,
        isEvalSupported: false,
        enableXfa: false,
        useSystemFonts: false,
        useWasm: false,
        useWorkerFetch: false,
        standardFontDataUrl: '/',
        BinaryDataFactory: Typefaces,
      })
      try {
        const document = await task.promise
        const one = await document.getPage(Math.min(page, document.numPages))
        const to = canvas.current
        if (gone || !to) return
        const width = Math.max(320, to.parentElement!.clientWidth)
        const viewport = one.getViewport({
          scale: (width / one.getViewport({ scale: 1 }).width) * Math.min(2, window.devicePixelRatio || 1),
        })
        to.width = viewport.width
        to.height = viewport.height
        await one.render({ canvas: to, viewport }).promise
        const words = await one.getTextContent()
        if (gone) return
        if (text.current) text.current.textContent = words.items.map((i) => ('str' in i ? i.str : '')).join(' ')
        setState({ pages: document.numPages })
      } finally {
        void task.destroy()
      }
    }
    void draw().catch(
      (e: unknown) =>
        !gone &&
        setState({
          pages: 0,
          wrong:
            e instanceof Error && e.name === 'PasswordException'
              ? t`The document asks for a password. Download it to open it.`
              : t`The document cannot be read. Download it to look at it.`,
        }),
    )
    return () => {
      gone = true
    }
  }, [query.data, page])
  return (
    <Listing query={query}>
      {() => (
        <>
          {state.wrong ? (
            <p className="text-seal">{state.wrong}</p>
          ) : (
            <div className="relative">
              <canvas
                ref={canvas}
                role="img"
                aria-label={t`${f.file}, page ${page}`}
                className="block w-full rounded-lg border border-line bg-white"
              />
              <Marks places={places} page={page} marked={marked} />
            </div>
          )}
          <div ref={text} className="sr-only" />
          {state.pages > 1 && (
            <p className="mt-2 flex items-center justify-center gap-3 text-sm">
              <Trans>
                <Button disabled={page === 1} onClick={() => setPage(page - 1)}>
                  Before
                </Button>
                page {page} of {plural(state.pages, { one: '# page', other: '# pages' }).split(' ')[0]}
                <Button disabled={page === state.pages} onClick={() => setPage(page + 1)}>
                  Next
                </Button>
              </Trans>
            </p>
          )}
        </>
      )}
    </Listing>
  )
}
