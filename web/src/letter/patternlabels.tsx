import type { Schemas } from '../api/client'
import { shownPieces } from './pattern'
import { inWords } from './patternwords'

/** Where a rule files, as a row of small labels: one for each level of folders. */
export function PatternLabels({ pattern, fields }: { pattern: string; fields: Schemas['Pattern'][] }) {
  const levels: { text: string; field: boolean }[][] = [[]]
  for (const p of shownPieces(pattern)) {
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
