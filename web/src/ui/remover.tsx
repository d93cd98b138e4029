import { t } from '@lingui/core/macro'
import { Trans } from '@lingui/react/macro'
import { useMutation, useQueryClient } from '@tanstack/react-query'
import { useState } from 'react'

import { Button, Sheet, Wrong } from './basics'

/** A button that removes something, once it is said what is lost. */
export function Remover({
  label = t`Remove`,
  name,
  lost,
  remove,
}: {
  label?: string
  name: string
  lost: string
  remove: () => Promise<unknown>
}) {
  const client = useQueryClient()
  const [open, setOpen] = useState(false)
  const removing = useMutation({
    mutationFn: remove,
    onSuccess: () => {
      setOpen(false)
      void client.invalidateQueries()
    },
  })
  const close = () => {
    setOpen(false)
    removing.reset()
  }
  return (
    <>
      <Button onClick={() => setOpen(true)} aria-label={t`Remove ${name}`}>
        {label}
      </Button>
      {open && (
        <Sheet title={t`Remove “${name}”?`} open onClose={close}>
          <p>{lost}</p>
          <Wrong error={removing.error} />
          <div className="mt-5 flex justify-end gap-2">
            <Button onClick={close}>
              <Trans>Keep it</Trans>
            </Button>
            <Button look="seal" onClick={() => removing.mutate()} disabled={removing.isPending}>
              <Trans>Remove it</Trans>
            </Button>
          </div>
        </Sheet>
      )}
    </>
  )
}
