import { Trans } from '@lingui/react/macro'
import { useMutation, useQueryClient } from '@tanstack/react-query'
import { type ReactNode, useState } from 'react'
import {
  type DefaultValues,
  type FieldValues,
  type Path,
  type PathValue,
  type RegisterOptions,
  useForm,
  useWatch,
} from 'react-hook-form'

import { Problem } from '../api/client'
import { Button, Wrong } from './basics'
import { Meanwhile, overtaken } from './meanwhile'

/** A sentence out of what the service says of a field. */
export const sentence = (text: string) => text.charAt(0).toUpperCase() + text.slice(1).replace(/\.$/, '') + '.'

/**
 * Which field each problem belongs to: the one of its name, or the one that names says. A place within a field, such as
 * `addresses[2]`, belongs to the field.
 */
export function placed(error: unknown, fields: Iterable<string>, names: Record<string, string> = {}) {
  const known = new Set(fields)
  const found = new Map<string, string>()
  if (!(error instanceof Problem)) return found
  for (const f of error.fields) {
    const base = f.place.replace(/\[.*$/, '')
    const name = names[f.place] ?? names[base] ?? base
    if (known.has(name) && !found.has(name)) {
      const advice = error.fields.length === 1 && error.advice ? ' ' + error.advice : ''
      found.set(name, sentence(f.text) + advice)
    }
  }
  return found
}

type Settings<V extends FieldValues, R> = {
  values: DefaultValues<V>
  /** Of the state that is edited; it is told to the service, so that nobody's change gets lost. */
  revision?: number
  save: (values: V, revision: number | undefined) => Promise<R>
  saved: (answer: R) => void
  /** The form's names of fields that the service calls otherwise. */
  names?: Record<string, Path<V>>
}

/**
 * The state of a form of settings: what is typed, what the service says of it, and the revision it is based on.
 * Problems stand at the fields that are shown; End shows the others.
 */
export function useSettings<V extends FieldValues, R>({ values, revision, save, saved, names }: Settings<V, R>) {
  const client = useQueryClient()
  const [base, setBase] = useState(revision)
  const form = useForm<V>({ defaultValues: values, shouldFocusError: false })
  const now = useWatch({ control: form.control }) as V
  const saving = useMutation({
    mutationFn: (v: V) => save(v, base),
    onSuccess: (answer) => {
      void client.invalidateQueries()
      saved(answer)
    },
    onError: (error) => place(error),
  })
  const place = (error: unknown) => {
    let shouldFocus = true
    for (const [name, message] of placed(error, Object.keys(form.getValues()), names)) {
      form.setError(name as Path<V>, { type: 'service', message }, { shouldFocus })
      shouldFocus = false
    }
  }
  const shown = new Set<string>()
  const { errors } = form.formState
  const problem = (name: Path<V>) => {
    shown.add(name)
    return errors[name]?.message as string | undefined
  }
  const set = <N extends Path<V>>(name: N, v: PathValue<V, N>) => {
    form.clearErrors(name)
    form.setValue(name, v, { shouldDirty: true })
  }
  return {
    now,
    set,
    saving,
    /** Shows problems at their fields, as those of saving are. */
    place,
    /** What an input needs: <Field {...bind('name')} />. */
    bind: <N extends Path<V>>(name: N, options?: RegisterOptions<V, N>) => ({
      ...form.register(name, options),
      error: problem(name),
    }),
    /** What any other control needs. */
    held: <N extends Path<V>>(name: N) => ({
      value: now[name] as PathValue<V, N>,
      onChange: (v: PathValue<V, N>) => set(name, v),
      error: problem(name),
    }),
    /** For <form onSubmit>. Problems of the attempt before do not stand in the way of the next one. */
    submit: (e: { preventDefault: () => void }) => {
      e.preventDefault()
      form.clearErrors()
      saving.mutate(form.getValues())
    },
    /** Bases what is typed on what somebody else has saved meanwhile. */
    rebase: (on: number | undefined) => {
      setBase(on)
      saving.reset()
    },
    /** What went wrong and stands at none of the fields that are shown. */
    rest: () => {
      const e = saving.error
      if (!(e instanceof Problem) || e.fields.length === 0 || overtaken(e)) return e
      const at = placed(e, shown, names)
      return at.size > 0 && at.size === new Set(e.fields.map((f) => f.place.replace(/\[.*$/, ''))).size ? null : e
    },
  }
}

type Ending = {
  of: {
    saving: { isPending: boolean }
    rest: () => unknown
    rebase: (revision: number | undefined) => void
  }
  /** What the button says. */
  label: string
  busy?: string
  disabled?: boolean
  onClose: () => void
  /** What stands left of the buttons. */
  beside?: ReactNode
  /** The settings as they are to be compared where somebody else has changed them, and how to ask for theirs. */
  mine?: object
  look?: () => Promise<{ revision?: number } | undefined>
}

/** The end of a form of settings: what went wrong, and the buttons. It stands after the fields. */
export function End({ of, label, busy, disabled, onClose, beside, mine, look }: Ending) {
  const error = of.rest()
  return (
    <>
      {mine && look ? (
        <Meanwhile
          error={error}
          mine={mine}
          look={look}
          onMine={(theirs) => of.rebase(theirs.revision)}
          onTheirs={onClose}
        />
      ) : (
        <Wrong error={error} />
      )}
      <div className="flex justify-between gap-2">
        {beside ?? <span />}
        <div className="flex gap-2">
          <Button onClick={onClose}>
            <Trans>Cancel</Trans>
          </Button>
          <Button look="main" type="submit" disabled={of.saving.isPending || disabled}>
            {(of.saving.isPending && busy) || label}
          </Button>
        </div>
      </div>
    </>
  )
}
