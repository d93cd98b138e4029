import { t } from '@lingui/core/macro'
/** Where one can go: what it is, its name, and its address. */
export type Goal = { kind: string; name: string; to: string }

/** What a number may be: a filing such as 2026-0012, or a message. */
export function numberGoals(text: string): Goal[] {
  const word = text.trim()
  if (/^\d{4}-\d+$/.test(word)) return [{ kind: t`Filing`, name: word, to: `/register?text=${word}` }]
  if (/^\d{1,15}$/.test(word)) return [{ kind: t`Message`, name: word, to: `/messages/${word}` }]
  return []
}

/** The most that are shown. */
const most = 50

/**
 * What fits every word of a text, in any order: names that begin with the text first, then those of which a word does,
 * then the others.
 */
export function fitting(goals: Goal[], text: string): Goal[] {
  const words = text.toLowerCase().split(/\s+/).filter(Boolean)
  const begin = words.join(' ')
  const rank = (g: Goal) => {
    const name = g.name.toLowerCase()
    if (name.startsWith(begin)) return 0
    return name.split(/\s+/).some((w) => w.startsWith(begin)) ? 1 : 2
  }
  return goals
    .filter((g) => words.every((w) => `${g.kind} ${g.name}`.toLowerCase().includes(w)))
    .map((g, i) => ({ g, i, rank: rank(g) }))
    .sort((a, b) => a.rank - b.rank || a.i - b.i)
    .slice(0, most)
    .map((x) => x.g)
}
