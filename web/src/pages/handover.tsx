import { t } from '@lingui/core/macro'
import { Trans } from '@lingui/react/macro'
import { useMutation, useQueryClient } from '@tanstack/react-query'
import { useRef, useState } from 'react'

import { api, octets, Problem, type Schemas, value } from '../api/client'
import { Button, Sheet, Wrong } from '../ui/basics'

/** Hands a mailbox over to another installation: its file is saved by the browser. */
export function HandOver({ mailbox: m, onClose }: { mailbox: Schemas['Mailbox']; onClose: () => void }) {
  const client = useQueryClient()
  const hand = useMutation({
    mutationFn: async () => {
      const { data, error, response } = await api.POST('/api/v1/mailboxes/{id}/hand-over', {
        params: { path: { id: m.id } },
        parseAs: 'blob',
      })
      if (error || !data) throw new Problem(error ?? {}, response.status)
      const link = document.createElement('a')
      link.href = URL.createObjectURL(data)
      link.download = `${m.name}.mailbox`
      link.click()
      URL.revokeObjectURL(link.href)
    },
    onSuccess: () => {
      void client.invalidateQueries()
      onClose()
    },
  })
  return (
    <Sheet title={t`Move “${m.name}” to another Ink Tray?`} open onClose={onClose}>
      <p>
        <Trans>
          Ink Tray saves a file for the other one. The file holds where each rule begins in this mailbox, what was
          decided for each message, and the topics that the rules use. It does not hold the password. After that, this
          Ink Tray no longer watches the mailbox, and switches off the rules that look into no other mailbox. Filed
          files and the register stay.
        </Trans>
      </p>
      <p className="mt-2 text-ink-2">
        <Trans>
          Import the file there, in Settings. Nothing is filed twice, and mail that arrives meanwhile is filed.
        </Trans>
      </p>
      <Wrong error={hand.error} />
      <div className="mt-5 flex justify-end gap-2">
        <Button onClick={onClose}>
          <Trans>Keep it</Trans>
        </Button>
        <Button look="seal" disabled={hand.isPending} onClick={() => hand.mutate()}>
          <Trans>Move mailbox</Trans>
        </Button>
      </div>
    </Sheet>
  )
}

/** Takes over a mailbox that was handed over; its password is asked for next. */
export function TakeOver({ onTaken }: { onTaken: (m: Schemas['Mailbox']) => void }) {
  const client = useQueryClient()
  const input = useRef<HTMLInputElement>(null)
  const [open, setOpen] = useState(false)
  const take = useMutation({
    mutationFn: (f: File) =>
      value(
        api.POST('/api/v1/mailboxes/take-over', {
          ...octets(f),
        }),
      ),
    onSuccess: (m) => {
      void client.invalidateQueries()
      setOpen(false)
      onTaken(m)
    },
  })
  return (
    <>
      <Button
        onClick={() => {
          take.reset()
          setOpen(true)
        }}
      >
        <Trans>Import from another Ink Tray…</Trans>
      </Button>
      <Sheet title={t`Import a mailbox`} open={open} onClose={() => setOpen(false)}>
        <p className="mb-4">
          <Trans>
            Choose the file that the other Ink Tray saved. Filing goes on from where it stopped there. Next you enter
            the password of the mailbox.
          </Trans>
        </p>
        <input
          ref={input}
          type="file"
          accept=".mailbox"
          className="sr-only"
          aria-label={t`File of the mailbox`}
          tabIndex={-1}
          onChange={(e) => {
            if (e.target.files?.[0]) take.mutate(e.target.files[0])
            e.target.value = ''
          }}
        />
        <Wrong error={take.error} />
        <div className="flex justify-end gap-2">
          <Button onClick={() => setOpen(false)}>
            <Trans>Cancel</Trans>
          </Button>
          <Button look="main" disabled={take.isPending} onClick={() => input.current?.click()}>
            <Trans>Choose the file…</Trans>
          </Button>
        </div>
      </Sheet>
    </>
  )
}
