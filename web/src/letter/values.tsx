import { plural, t } from '@lingui/core/macro'
import { Trans } from '@lingui/react/macro'
import { useState } from 'react'

import type { Schemas } from '../api/client'
import { Button, Blank, Field, Lines, Pick, Tick } from '../ui/basics'
import { orList, type Known } from './blanks'
import { type ItemTest, list, type Value, type ValueTest } from './document'
import { FromPaper } from './frompaper'

type Type = 'text' | 'number' | 'amount' | 'date' | 'yes or no'
const typeOf = (v?: Value) => (v?.type ?? 'text') as Type
const types: [Type, string][] = [
  ['text', t`a text`],
  ['number', t`a number`],
  ['amount', t`an amount of money`],
  ['date', t`a date`],
  ['yes or no', t`yes or no`],
]
const decimals: [string, string][] = [
  ['', t`as each number tells itself`],
  ['comma', t`with a comma: 1.234,50`],
  ['point', t`with a point: 1,234.50`],
]
const orders: [string, string][] = [
  ['', t`day, month, year`],
  ['month day year', t`month, day, year`],
  ['year month day', t`year, month, day`],
]

const agains: [string, string][] = [
  ['', t`the file is filed`],
  ['say so', t`it is filed with a note`],
  ['ask', t`it waits in the tray`],
]

/** A value without what says nothing. */
const bare = (v: Value): Value =>
  Object.fromEntries(Object.entries(v).filter(([, x]) => x !== undefined && x !== '')) as Value

/** What a rule reads of each file: a line for each value, and a blank where it can be changed. */
export function Values({
  values,
  read,
  rule,
  wrong,
  onChange,
}: {
  values: Value[]
  /** The rule's id, once it is saved. */
  rule?: string
  /** What the rehearsal reads, a list for each file. */
  read: Schemas['FiledValue'][][]
  wrong: (place: string) => string[]
  onChange: (values: Value[] | undefined) => void
}) {
  const set = (i: number, v: Value | null) => {
    const next = v ? values.map((x, k) => (k === i ? bare(v) : x)) : values.filter((_, k) => k !== i)
    onChange(next.length ? next : undefined)
  }
  const [showing, setShowing] = useState(false)
  const fresh = () => {
    const names = ['order', 'total', 'due', ...Array.from({ length: 30 }, (_, i) => `value-${i + 1}`)]
    const name = names.find((n) => !values.some((v) => v.name === n))!
    onChange([...values, { name, from: '<file.text find "…">' }])
  }
  return (
    <>
      {values.map((v, i) => (
        <p key={i} className="[overflow-wrap:anywhere]">
          <Blank label={t`The value ${v.name}`} text={v.name} wrong={wrong(`values[${i}]`)}>
            <ValueEditor value={v} onChange={(x) => set(i, x)} />
          </Blank>
          {v.type && v.type !== 'text' && <span className="text-ink-2">, {v.type}</span>}:{' '}
          <code className="text-[14px]">{list(v.from).join(t` or `)}</code>
          {v.missing === 'ask' && t`; if it is not found, the file waits in the tray`}
          {v.again === 'ask' && t`; if an earlier message had the same, the file waits in the tray`}
          {v.again === 'say so' && t`; if an earlier message had the same, that is noted`}
          <Found name={v.name} read={read} />
        </p>
      ))}
      <p>
        <button className="add" onClick={() => setShowing(true)}>
          <Trans>+ a value that you select in a paper</Trans>
        </button>{' '}
        <button className="add" onClick={fresh}>
          + {values.length ? t`another value` : t`a value, such as an order or an amount`}
        </button>
      </p>
      {showing && (
        <FromPaper
          rule={rule}
          names={values.map((v) => v.name)}
          onAdd={(v) => {
            onChange([...values, v])
            setShowing(false)
          }}
          onClose={() => setShowing(false)}
        />
      )}
    </>
  )
}

/** What the rehearsal finds of a value: in how many files, and the first different ones. */
function Found({ name, read }: { name: string; read: Schemas['FiledValue'][][] }) {
  const asked = read.flatMap((all) => all.filter((v) => v.name === name))
  if (asked.length === 0) return null
  const found = asked.filter((v) => v.text)
  const some = [...new Set(found.map((v) => v.text))].slice(0, 4)
  const problem = asked.find((v) => v.problem)?.problem
  return (
    <span className="block text-sm leading-normal text-ink-3">
      {found.length === 0
        ? t`Found in none of ${plural(asked.length, { one: '# file', other: '# files' })} of the rehearsal`
        : t`Found in ${found.length} of ${plural(asked.length, { one: '# file', other: '# files' })} of the rehearsal: ${some.join(' · ')}`}
      {problem ? t`; not everywhere: ${problem}` : ''}.
    </span>
  )
}

function ValueEditor({ value: v, onChange }: { value: Value; onChange: (v: Value | null) => void }) {
  const type = typeOf(v)
  return (
    <>
      <Field
        label={t`Name of the value`}
        defaultValue={v.name}
        hint={t`Small letters, digits and dashes. The value is a column of the register, and a field in names.`}
        onChange={(e) => onChange({ ...v, name: e.target.value })}
      />
      <Pick
        label={t`What it is`}
        value={type}
        choices={types}
        onChange={(type) =>
          onChange({
            ...v,
            type: type === 'text' ? undefined : type,
            decimal: undefined,
            order: undefined,
            currency: undefined,
          })
        }
      />
      <Lines
        label={t`Where it stands`}
        code
        defaultValue={list(v.from).join('\n')}
        hint={t`One pattern per line, such as <subject find "BK-[0-9]+">. The first one that finds the value counts.`}
        onChange={(e) => {
          const from = e.target.value
            .split('\n')
            .map((x) => x.trim())
            .filter(Boolean)
          onChange({ ...v, from: from.length === 1 ? from[0] : from })
        }}
      />
      {(type === 'number' || type === 'amount') && (
        <Pick
          label={t`How fractions are written`}
          value={v.decimal ?? ''}
          choices={decimals}
          onChange={(decimal) => onChange({ ...v, decimal })}
        />
      )}
      {type === 'amount' && (
        <Field
          label={t`Currency where none is named`}
          defaultValue={v.currency ?? ''}
          placeholder={t`EUR`}
          onChange={(e) => onChange({ ...v, currency: e.target.value.trim() })}
        />
      )}
      {type === 'date' && (
        <Pick
          label={t`In what order`}
          value={v.order ?? ''}
          choices={orders}
          onChange={(order) => onChange({ ...v, order })}
        />
      )}
      <Tick
        label={t`if it is not found, the file waits in the tray`}
        checked={v.missing === 'ask'}
        onChange={(on) => onChange({ ...v, missing: on ? 'ask' : undefined })}
      />
      <div className="mt-3">
        <Pick
          label={t`If an earlier message had the same value`}
          value={v.again ?? ''}
          choices={agains}
          onChange={(again) => onChange({ ...v, again })}
        />
      </div>
      <p className="mt-3 border-t border-line pt-3">
        <Button onClick={() => onChange(null)}>
          <Trans>Remove the value</Trans>
        </Button>
      </p>
    </>
  )
}

type Comparison = Exclude<keyof ValueTest, 'name'>
const numeric: Comparison[] = ['at least', 'at most', 'more than', 'less than', 'is', 'found']
const comparisons: Record<Type, Comparison[]> = {
  text: ['is', 'like', 'found'],
  number: numeric,
  amount: numeric,
  date: ['after', 'before', 'is', 'found'],
  'yes or no': ['is', 'found'],
}
const said: Record<Comparison, string> = {
  'at least': t`at least`,
  'at most': t`at most`,
  'more than': t`more than`,
  'less than': t`less than`,
  after: t`on or after`,
  before: t`before`,
  is: t`is`,
  like: t`like`,
  found: t`found`,
}

const testWords = (test: ValueTest): string => {
  if (test.found !== undefined)
    return `${test.found ? t`in which a value is found` : t`in which no value is found`}: ${test.name}`
  const parts = (Object.keys(said) as Comparison[])
    .filter((k) => test[k] !== undefined)
    .map((k) =>
      k === 'is' || k === 'like' ? (k === 'like' ? t`like ` : '') + orList(list(test[k])) : `${said[k]} ${test[k]}`,
    )
  return `whose ${test.name} is ${parts.length ? parts.join(t` and `) : '…'}`
}

const tests = (value: ItemTest['value']): ValueTest[] =>
  value === undefined ? [] : Array.isArray(value) ? value : [value]

/** What a test of an attachment says of values; "" where it says nothing. */
export const valueWords = (test: ItemTest): string =>
  [
    tests(test.value)
      .map(testWords)
      .join(t` or `),
    ...tests(test['all values']).map(testWords),
  ]
    .filter(Boolean)
    .join(t` and `)

/** One comparison of one value that the rule reads. More than one is kept as it is, and told. */
export function ValueTestEditor({
  test: test,
  known,
  onChange,
}: {
  test: ItemTest
  known: Known
  onChange: (value: ValueTest | undefined) => void
}) {
  const values = known.values ?? []
  const is = tests(test.value)
  const keys = is[0] ? (Object.keys(is[0]) as (keyof ValueTest)[]).filter((k) => k !== 'name') : []
  if (is.length > 1 || keys.length > 1 || test['all values'])
    return (
      <p className="mt-3 text-sm text-ink-3">
        <Trans>{valueWords(test)}: changed in the rule as text.</Trans>
      </p>
    )
  if (!values.length && !is.length) return null
  const one = is[0]
  const of = values.find((v) => v.name === one?.name)
  const choices = comparisons[typeOf(of)]
  const key = (keys[0] as Comparison | undefined) ?? choices[0]
  const than = one && key !== 'found' ? list(one[key]).join(', ') : ''
  const put = (name: string, k: Comparison, text: string) => {
    const many = text
      .split(',')
      .map((x) => x.trim())
      .filter(Boolean)
    const v = k === 'found' ? text !== 'no' : (k === 'is' || k === 'like') && many.length > 1 ? many : text
    onChange({ name, [k]: v })
  }
  return (
    <div className="mt-3 border-t border-line pt-3">
      <Pick
        label={t`A value that is read of it`}
        value={one?.name ?? ''}
        choices={[['', t`whatever its values are`], ...values.map((v): [string, string] => [v.name, v.name])]}
        onChange={(name) => {
          if (!name) return onChange(undefined)
          const type = typeOf(values.find((v) => v.name === name))
          put(name, comparisons[type].includes('at least') ? 'at least' : 'found', '0')
        }}
      />
      {one && (
        <div className="grid grid-cols-2 gap-3">
          <Pick
            label={t`Compared`}
            value={key === 'found' && one.found === false ? 'missing' : key}
            choices={[...choices.map((k): [string, string] => [k, said[k]]), ['missing', t`not found`]]}
            onChange={(k) => (k === 'missing' ? put(one.name, 'found', 'no') : put(one.name, k as Comparison, than))}
          />
          {key !== 'found' && (
            <Field
              label={t`With`}
              key={key}
              defaultValue={than}
              type={key === 'after' || key === 'before' ? 'date' : 'text'}
              onChange={(e) => put(one.name, key, e.target.value)}
            />
          )}
        </div>
      )}
    </div>
  )
}
