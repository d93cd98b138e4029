import type { Schemas } from '../api/client'
import { pieces } from './pattern'
import { inWords } from './patternwords'

/** Where a rule files, as a row of small labels: one for each level of folders. */
export function PatternLabels({ pattern, fields }: { pattern: string; fields: Schemas['Pattern'][] }) {
  const levels: { text: string; field: boolean }[][] = [[]]
  const all = pieces(pattern)
  for (let i = 0; i < all.length; i++) {
    const p = all[i]
    const month = all[i].field?.match(/^(\S+) month$/)?.[1]
    if (month && all[i + 1]?.text === ' ' && all[i + 2]?.field === `${month} month name`) i += 2 // "05 May" is one month
    if (p.field !== undefined) {
      levels[levels.length - 1].push({ text: inWords(p.field, fields), field: true })
      continue
    }
    p.text.split('/').forEach((text, i) => {
      if (i > 0) levels.push([])
      if (text) levels[levels.length - 1].push({ text, field: false })
    })
  }
  return (
    <span className="inline-flex flex-wrap items-center gap-x-1 gap-y-1">
      {levels.map((level, i) => (
        <span key={i} className="contents">
          {i > 0 && <span className="text-ink-3">/</span>}
          <span className="rounded border border-line-2 bg-sheet-2 px-1.5 text-[13.5px]">
            {level.map((x, k) => (x.field ? <em key={k}>{x.text}</em> : <span key={k}>{x.text}</span>))}
          </span>
        </span>
      ))}
    </span>
  )
}
