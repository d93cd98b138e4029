import { plural, t } from '@lingui/core/macro'
import type { Schemas } from '../api/client'

type Fields = Pick<Schemas['Pattern'], 'name' | 'words' | 'type'>[]

const tokens = (text: string) => text.match(/"(?:[^"\\]|\\.)*"|[()]|[^\s()"]+/g) ?? []

const dateNouns: Record<string, string> = {
  'week year': t`year of the week`,
  as: t`date`,
  year: t`year`,
  month: t`month`,
  day: t`day`,
  date: t`date`,
  week: t`week`,
  quarter: t`quarter`,
  time: t`time`,
  'month name': t`month name`,
}
const dateWords = ['year', 'month', 'day', 'date', 'week', 'quarter', 'time', 'as']

/**
 * What stands between < and > in a pattern, in words that need no explanation: "file.stem" is "original name". It says
 * the same as Pattern.InWords of the service.
 */
export function inWords(expression: string, fields: Fields): string {
  const all = tokens(expression)
  const choices: string[][] = [[]]
  let depth = 0
  for (const token of all) {
    if (token === '(') depth++
    if (token === ')') depth--
    if (token === 'or' && depth === 0) choices.push([])
    else choices[choices.length - 1].push(token)
  }
  return choices.map((c) => choice(c, fields)).join(t` or `)
}

const quoted = (token: string | undefined) => !!token && token.startsWith('"')
const unquote = (token: string) => token.slice(1, -1).replace(/\\(.)/g, '$1')

function choice(all: string[], fields: Fields): string {
  let i = 0
  let before = ''
  let after = ''
  if (quoted(all[i])) before = unquote(all[i++])
  if (i >= all.length) return `“${before}”`
  if (all[i] === 'lookup') {
    const table = all[i + 1] ?? ''
    const open = all.indexOf('(')
    const close = all.lastIndexOf(')')
    const of = open < 0 ? '' : inWords(all.slice(open + 1, close).join(' '), fields)
    const rest = words(t`${table} of the ${of}`, close < 0 ? [] : all.slice(close + 1), false)
    return before + rest
  }
  const name = all[i++]
  const field = fields.find((f) => f.name === name)
  const value = name.startsWith('value.')
  let said = field?.words ?? name.replace(/^value\./, '')
  if (name === 'header' && quoted(all[i])) said += ' ' + unquote(all[i++])
  const rest = all.slice(i)
  const last = rest[rest.length - 1]
  const wanted = ['find', 'without', 'as']
  if (quoted(last) && !wanted.includes(rest[rest.length - 2] ?? '')) after = unquote(rest.pop()!)
  const date = field?.type === 'date' || (value && dateWords.includes(rest[0]))
  return before + words(date && value ? t`of ${said}` : said, rest, date) + after
}

/** How much earlier a date is. */
const earlierBy = (unit: string, n: number) =>
  ({
    day: plural(n, { one: '# day before', other: '# days before' }),
    week: plural(n, { one: '# week before', other: '# weeks before' }),
    month: plural(n, { one: '# month before', other: '# months before' }),
    year: plural(n, { one: '# year before', other: '# years before' }),
  })[unit] ?? ''

/** What the words after a field make of it. */
function words(said: string, rest: string[], date: boolean): string {
  if (!date) {
    for (let i = 0; i < rest.length; i++) {
      if (rest[i] === 'find' || rest[i] === 'without') said = t`part of the ${said}`
      else if (rest[i] === 'first')
        said = t`first ${rest[i + 1]} ${/^words?$/.test(rest[i + 2] ?? '') ? t`words` : t`characters`} of the ${said}`
      else if (rest[i] === 'upper') said = t`${said} in capitals`
      else if (rest[i] === 'lower') said = t`${said} in small letters`
    }
    return said
  }
  let noun = t`date`
  let earlier = ''
  for (let i = 0; i < rest.length; i++) {
    if (rest[i] === 'minus') {
      const unit = (rest[i + 2] ?? '').replace(/s$/, '')
      earlier = `, ${earlierBy(unit, Number(rest[i + 1]))}`
      i += 2
    } else if (dateWords.includes(rest[i])) {
      const two = `${rest[i]} ${rest[i + 1]}`
      const full = two === 'month name' || two === 'week year' ? two : rest[i]
      noun = dateNouns[full] ?? full
      if (full === two) i++
    }
  }
  return `${noun} ${said}${earlier}`
}
