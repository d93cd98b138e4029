import { readdirSync, readFileSync } from 'node:fs'
import { expect, test } from 'vitest'

import { anchor, contents, leadsTo } from './contents'
import { words } from './words'

const docs = new URL('../../../docs/', import.meta.url)

test('every document is in the contents of the book, once', () => {
  const files = readdirSync(docs)
    .filter((f) => f.endsWith('.md'))
    .map((f) => f.replace(/\.md$/, ''))
  expect(contents.flatMap(([, pages]) => pages).sort()).toEqual(files.sort())
})

test('links between documents lead to a page and a heading that are there', () => {
  for (const [, pages] of contents)
    for (const page of pages) {
      const source = readFileSync(new URL(`${page}.md`, docs), 'utf8')
      for (const [, link] of source.matchAll(/\]\(([^)]+)\)/g)) {
        const to = /^\/book\/([a-z0-9-]+)(?:#(.+))?$/.exec(leadsTo(link))
        if (!to?.[2]) continue
        const headings = [...readFileSync(new URL(`${to[1]}.md`, docs), 'utf8').matchAll(/^#+ (.+)$/gm)]
        expect(headings.map((h) => anchor(h[1]))).toContain(to[2])
      }
    }
})

test('each word of Ink Tray’s own leads to a section of the book', () => {
  for (const [word, , , to] of words) {
    const [page, heading] = to.replace('/book/', '').split('#')
    expect(contents.flatMap(([, pages]) => pages)).toContain(page)
    const source = readFileSync(new URL(`${page}.md`, docs), 'utf8')
    if (heading) expect([...source.matchAll(/^#+ (.+)$/gm)].map((h) => anchor(h[1]))).toContain(heading)
    else expect(source.toLowerCase()).toContain(word)
  }
})

test('a link leads to a page of the book, to the web, or nowhere', () => {
  expect(leadsTo('running.md#scans')).toBe('/book/running#scans')
  expect(leadsTo('https://example.test/x')).toBe('https://example.test/x')
  expect(leadsTo('../internal/api/openapi.yaml')).toBe('/api/v1/openapi.yaml')
  expect(leadsTo('../CONTRIBUTING.md')).toBe('')
  expect(anchor('What is read in a process of its own')).toBe('what-is-read-in-a-process-of-its-own')
})
