import { t } from '@lingui/core/macro'
import { Trans } from '@lingui/react/macro'
import {
  type ButtonHTMLAttributes,
  type ComponentProps,
  createContext,
  lazy,
  type ReactNode,
  Suspense,
  useContext,
  useEffect,
  useId,
  useRef,
  useState,
} from 'react'

import { loadAhead } from './ahead'
import type { CardProps, SheetProps } from './floating'
import { labelOf } from './labels'

type ButtonProps = ButtonHTMLAttributes<HTMLButtonElement> & { look?: 'main' | 'plain' | 'quiet' | 'seal' }
const looks = {
  main: 'bg-ink text-sheet border-ink hover:opacity-90',
  plain: 'bg-sheet border-line-2 hover:bg-sheet-2',
  quiet: 'border-transparent text-pen hover:underline',
  seal: 'bg-seal text-on-seal border-seal hover:opacity-90',
}
const buttonLook = (look: keyof typeof looks) =>
  `rounded-lg border px-4 py-2 text-sm font-semibold disabled:opacity-60 ${looks[look]}`
export function Button({ look = 'plain', className = '', ...rest }: ButtonProps) {
  return <button type="button" {...rest} className={`${buttonLook(look)} ${className}`} />
}

const chips: Record<string, string> = {
  filed: 'bg-moss-soft text-moss',
  held: 'bg-seal-soft text-seal',
  failed: 'bg-seal-soft text-seal',
  late: 'bg-seal-soft text-seal',
  'name taken': 'bg-ochre-soft text-ochre',
  waiting: 'bg-ochre-soft text-ochre',
  'not yet': 'bg-ochre-soft text-ochre',
}
/** A verdict as a word; the colour only repeats it. */
export function Chip({ word }: { word: string }) {
  return (
    <span
      className={`inline-block rounded-full border px-2 text-[12.5px] font-semibold whitespace-nowrap ${chips[word] ? 'border-transparent ' + chips[word] : 'border-line-2 text-ink-3'}`}
    >
      {labelOf(word)}
    </span>
  )
}

export function Page({
  title,
  tab,
  sub,
  actions,
  children,
}: {
  title: ReactNode
  /** What the browser's tab shows, where it is not the title. */
  tab?: string
  sub?: ReactNode
  actions?: ReactNode
  children: ReactNode
}) {
  const head = useRef<HTMLHeadingElement>(null)
  useEffect(() => {
    document.title = t`${tab ?? head.current?.textContent ?? ''} – Ink Tray`
  })
  return (
    <>
      <div className="mb-5 flex flex-wrap items-start justify-between gap-4">
        <div className="min-w-0">
          <h1 ref={head}>{title}</h1>
          {sub && <p className="mt-1 text-ink-2">{sub}</p>}
        </div>
        {actions && <div className="flex flex-wrap gap-2">{actions}</div>}
      </div>
      {children}
    </>
  )
}

type Said = { label: ReactNode; hint?: ReactNode; error?: string }

/** A control with its name above it, and what is to be known or is wrong below. */
function Named({ id, label, hint, error, children }: Said & { id: string; children: ReactNode }) {
  return (
    <div className="mb-4">
      <label htmlFor={id} className="mb-1 block text-sm font-semibold">
        {label}
      </label>
      {children}
      {(error ?? hint) && (
        <p
          id={id + 'h'}
          role={error ? 'alert' : undefined}
          className={`mt-1 text-sm ${error ? 'text-seal' : 'text-ink-3'}`}
        >
          {error ?? hint}
        </p>
      )}
    </div>
  )
}

const described = (id: string, { hint, error }: Omit<Said, 'label'>) => ({
  id,
  'aria-invalid': !!error,
  'aria-describedby': error || hint ? id + 'h' : undefined,
})

/** A line of text. */
export function Field({ label, hint, error, ...input }: ComponentProps<'input'> & Said) {
  const id = useId()
  return (
    <Named id={id} label={label} hint={hint} error={error}>
      <input {...input} {...described(id, { hint, error })} className="field" />
    </Named>
  )
}

/** Several lines of text; code is text that no spelling is right for. */
export function Lines({ label, hint, error, code, ...area }: ComponentProps<'textarea'> & Said & { code?: boolean }) {
  const id = useId()
  return (
    <Named id={id} label={label} hint={hint} error={error}>
      <textarea
        {...area}
        {...described(id, { hint, error })}
        spellCheck={!code}
        className={`field ${code ? 'min-h-20 font-mono text-sm' : ''}`}
      />
    </Named>
  )
}

type Choices<V extends string> = { value: V; choices: [V, string][]; onChange: (v: V) => void }

/** One of several. */
export function Pick<V extends string>({ label, hint, error, value, choices, onChange }: Said & Choices<V>) {
  const id = useId()
  return (
    <Named id={id} label={label} hint={hint} error={error}>
      <select
        {...described(id, { hint, error })}
        className="field"
        value={value}
        onChange={(e) => onChange(e.target.value as V)}
      >
        {choices.map(([v, text]) => (
          <option key={v} value={v}>
            {text}
          </option>
        ))}
      </select>
    </Named>
  )
}

/** Yes or no. */
export function Tick({
  label,
  said,
  checked,
  onChange,
  className = 'py-0.5',
}: {
  label?: ReactNode
  /** Its name where no label is seen. */
  said?: string
  checked: boolean
  onChange: (yes: boolean) => void
  className?: string
}) {
  return (
    <label className={`flex items-center gap-2 ${className}`}>
      <input
        type="checkbox"
        aria-label={said}
        className="size-4 shrink-0 accent-[var(--pen)]"
        checked={checked}
        onChange={(e) => onChange(e.target.checked)}
      />
      {label}
    </label>
  )
}

/** What is wrong, in words, and what to do. */
export function Wrong({ error }: { error: unknown }) {
  if (!error) return null
  const e = error as Error & { advice?: string; request?: string }
  const text = e.message.charAt(0).toUpperCase() + e.message.slice(1).replace(/\.$/, '')
  return (
    <p role="alert" className="my-3 rounded-lg bg-seal-soft px-4 py-3 text-seal">
      {text}.{e.advice ? ' ' + e.advice : ''}
      {e.request && (
        <span className="block text-sm">
          <Trans>In the log it is the request {e.request}.</Trans>
        </span>
      )}
    </p>
  )
}

/** The four states of a list. */
export function Listing<T>({
  query,
  empty,
  children,
}: {
  query: { data?: T; error: unknown; isPending: boolean }
  empty?: (data: T) => ReactNode
  children: (data: T) => ReactNode
}) {
  if (query.isPending)
    return (
      <p className="py-6 text-ink-3" role="status">
        <Trans>Looking…</Trans>
      </p>
    )
  if (query.data === undefined) return <Wrong error={query.error} />
  const nothing = empty?.(query.data)
  if (nothing) return <div className="py-8 text-ink-2">{nothing}</div>
  return <>{children(query.data)}</>
}

const floating = () => import('./floating')
const Over = lazy(() => floating().then((m) => ({ default: m.Over })))
const Card = lazy(() => floating().then((m) => ({ default: m.Card })))

/** Loads what lies over pages a little after the first page is there. */
export const loadFloating = () => setTimeout(() => loadAhead(floating), 3000)

/** Something that has to be answered, before the page goes on. */
export function Sheet(props: SheetProps) {
  const [used, setUsed] = useState(props.open)
  if (props.open && !used) setUsed(true)
  return used ? (
    <Suspense fallback={null}>
      <Over {...props} />
    </Suspense>
  ) : null
}

/** A button with a card that it opens beside itself. */
export function Opens({
  label,
  align,
  card,
  button,
  onLeft,
  children,
}: {
  label: string
  align?: CardProps['align']
  card: string
  button: ComponentProps<'button'>
  onLeft?: () => void
  children: ReactNode
}) {
  const from = useRef<HTMLButtonElement>(null)
  const [open, setOpen] = useState<boolean>()
  const close = () => {
    setOpen(false)
    onLeft?.()
  }
  return (
    <>
      <button
        type="button"
        {...button}
        ref={from}
        aria-haspopup="dialog"
        aria-expanded={!!open}
        onPointerEnter={() => loadAhead(floating)}
        onClick={() => (open ? close() : setOpen(true))}
      />
      {open !== undefined && (
        <Suspense fallback={null}>
          <Card label={label} from={from} align={align} className={card} open={open} onClose={close}>
            {children}
          </Card>
        </Suspense>
      )}
    </>
  )
}

/** Whether nothing of a new letter was filled in yet: blanks then turn red only after they are left. */
export const Fresh = createContext(false)

/** A blank of the letter: what was chosen; the choice opens there. An empty one asks a question. */
export function Blank({
  label,
  text,
  invite = '…',
  wrong,
  children,
}: {
  label: string
  text: ReactNode
  invite?: string
  wrong?: string[]
  children: ReactNode
}) {
  const id = useId()
  const fresh = useContext(Fresh)
  const [left, setLeft] = useState(false)
  const bad = !!wrong?.length && (!fresh || left)
  // What is seen must be part of the name (WCAG 2.5.3).
  const name = typeof text === 'string' && !label.includes(text || invite) ? `${label}: ${text || invite}` : label
  return (
    <>
      <Opens
        label={label}
        align="start"
        card="max-h-[min(70vh,var(--radix-popover-content-available-height))] w-[min(92vw,26rem)] overflow-auto p-4"
        onLeft={() => setLeft(true)}
        button={{
          className: 'blank',
          'aria-label': name,
          'aria-describedby': bad ? id : undefined,
          ...{ 'data-wrong': bad, 'data-empty': !text },
          children: text || invite,
        }}
      >
        {children}
      </Opens>
      {bad && (
        <span id={id} role="alert" className="my-1 block text-sm leading-normal text-seal">
          {wrong?.join(' ')}
        </span>
      )}
    </>
  )
}

/** A button that opens something beside it. */
export function Pop({ label, children }: { label: string; children: ReactNode }) {
  return (
    <Opens
      label={label}
      align="end"
      card="max-h-[min(80vh,var(--radix-popover-content-available-height))] w-[min(92vw,34rem)] overflow-auto p-5"
      button={{ className: buttonLook('plain'), children: label }}
    >
      {children}
    </Opens>
  )
}

/** How far something is. */
export function Bar({ label, done, of }: { label: string; done: number; of: number }) {
  return (
    <div
      role="progressbar"
      aria-label={label}
      aria-valuemin={0}
      aria-valuemax={of}
      aria-valuenow={done}
      className="h-2 overflow-hidden rounded-full bg-line"
    >
      <div className="h-full bg-pen transition-[width]" style={{ width: `${(done / of) * 100}%` }} />
    </div>
  )
}

/** A bar picture with a table for those who cannot see it. */
export function Bars({ days, label, height = 110 }: { days: number[]; label: string; height?: number }) {
  const most = Math.max(1, ...days)
  const step = 420 / days.length
  return (
    <svg
      viewBox={`0 0 420 ${height}`}
      width="100%"
      role="img"
      aria-label={t`${label}: ${days.join(', ')}; the last is today`}
    >
      {days.map((n, i) => {
        const h = n === 0 ? 0 : Math.max(2, (n / most) * (height - 8))
        const last = i === days.length - 1
        return (
          <rect
            key={i}
            x={i * step + step * 0.14}
            y={height - 1 - h}
            width={step * 0.72}
            height={h}
            rx={Math.min(2, step / 6)}
            fill={last ? 'none' : 'var(--pen)'}
            stroke="var(--pen)"
            strokeWidth={last ? 1.5 : 0}
          />
        )
      })}
      <line x1="0" x2="420" y1={height - 0.5} y2={height - 0.5} stroke="var(--line-2)" />
    </svg>
  )
}
