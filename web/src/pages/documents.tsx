import { t } from '@lingui/core/macro'
import { Trans } from '@lingui/react/macro'
import { useQuery } from '@tanstack/react-query'
import { Marked } from 'marked'
import { type MouseEvent, useEffect } from 'react'
import { NavLink, useLocation, useNavigate, useParams } from 'react-router'

import { pagesOf, machine } from '../api/where'
import { Listing, Page } from '../ui/basics'
import { anchor, contents, leadsTo } from '../ui/contents'

// Each page is loaded when it is opened.
const files = import.meta.glob<string>('../../../docs/*.md', { query: '?raw', import: 'default' })

const text = (s: string) => s.replace(/[&<>"]/g, (c) => ({ '&': '&amp;', '<': '&lt;', '>': '&gt;', '"': '&quot;' })[c]!)

/** The heading under which the reader is, which names the tables there. */
let under = ''

const marked = new Marked({
  renderer: {
    heading({ tokens, depth, text: words }) {
      under = words
      return `<h${depth} id="${anchor(words)}">${this.parser.parseInline(tokens)}</h${depth}>`
    },
    link({ href, tokens }) {
      const to = leadsTo(href)
      const inner = this.parser.parseInline(tokens)
      return to ? `<a href="${text(to)}">${inner}</a>` : inner
    },
    code: ({ text: lines }) => `<pre tabindex="0"><code>${text(lines)}</code></pre>`,
    image: () => '', // pictures show these pages
    html: () => '', // marks of generated parts
    table({ header, rows }) {
      const row = (cells: typeof header, tag: string) =>
        `<tr>${cells.map((c) => `<${tag}>${this.parser.parseInline(c.tokens)}</${tag}>`).join('')}</tr>`
      return `<div class="wide" tabindex="0"><table aria-label="${text(under.replace(/[`*]/g, ''))}"><thead>${row(header, 'th')}</thead><tbody>${rows.map((r) => row(r, 'td')).join('')}</tbody></table></div>`
    },
  },
})

/** Pages whose heading is not their name. */
const titles: Record<string, string> = {
  api: 'The interface over HTTP',
  architecture: 'How it is built',
  backup: 'Backups',
  filing: 'How it files',
  jmap: 'JMAP',
  'measured-words': 'Measured: words inside of files',
  office: 'Several machines as one office',
  reader: 'How attachments are read',
  running: 'Running it',
  scaling: 'One machine, and more',
  standby: 'A replica and a standby',
  start: 'Start here',
  tasks: 'Everyday tasks',
  tls: 'TLS',
  watching: 'Watching it',
  'worked-rules': 'Twenty worked rules',
}
const titleOf = (page: string) => titles[page] ?? page.charAt(0).toUpperCase() + page.slice(1).replace(/-/g, ' ')

/** The book: the documents of this version. */
export function Documents() {
  const { page = 'start' } = useParams()
  const { hash } = useLocation()
  const go = useNavigate()
  const load = files[`../../../docs/${page}.md`] as (() => Promise<string>) | undefined
  const query = useQuery({
    queryKey: ['book', page],
    queryFn: async () => {
      const source = load ? (await load()).replace(/^# .*\n/, '') : ''
      under = titleOf(page)
      return marked.parse(source, { async: false }) // at once: another page cannot come between
    },
    staleTime: Infinity,
  })
  useEffect(() => {
    if (query.data && hash) document.getElementById(decodeURIComponent(hash.slice(1)))?.scrollIntoView()
  }, [query.data, hash])
  const follow = (e: MouseEvent) => {
    const to = e.target instanceof Element ? e.target.closest('a')?.getAttribute('href') : null
    if (!to?.startsWith('/book/') || e.ctrlKey || e.metaKey || e.shiftKey) return
    e.preventDefault()
    void go(to)
  }
  return (
    <Page title={titleOf(page)} sub={t`The documents of this version, in English.`}>
      <div className="grid gap-8 lg:grid-cols-[12rem_minmax(0,1fr)]">
        <nav aria-label={t`Documents`} className="text-[14.5px]">
          {contents.map(([group, pages]) => (
            <div key={group} className="mb-4">
              <h2 className="!text-sm text-ink-2">{group}</h2>
              {pages.map((p) => (
                <NavLink
                  key={p}
                  to={`/book/${p}`}
                  lang="en"
                  className={({ isActive }) =>
                    `block rounded px-2 py-1 hover:underline ${isActive ? 'bg-sheet-2 font-semibold' : 'text-pen'}`
                  }
                >
                  {titleOf(p)}
                </NavLink>
              ))}
            </div>
          ))}
        </nav>
        {load ? (
          <Listing query={query}>
            {(html) => (
              // The documents are part of the program; nobody else writes them.
              <article
                lang="en"
                className="book min-w-0 max-w-3xl"
                onClick={follow}
                dangerouslySetInnerHTML={{ __html: html.replaceAll('href="/', `href="${pagesOf(machine)}/`) }}
              />
            )}
          </Listing>
        ) : (
          <p>
            <Trans>There is no such page.</Trans>
          </p>
        )}
      </div>
    </Page>
  )
}
