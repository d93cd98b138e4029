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
    <Sheet title={`Hand “${m.name}” over?`} open onClose={onClose}>
      <p>
        A file is saved for another installation: from where on rules take messages of this mailbox, what was decided of
        each, and the topics for which these rules ask with the texts of their examples, but not its password. The
        mailbox is no longer watched here then. What was filed stays, and so does the register; rules that look into no
        other mailbox are switched off.
      </p>
      <p className="mt-2 text-ink-2">
        There, take it over in Settings. Nothing is filed twice, and what comes meanwhile is filed.
      </p>
      <Wrong error={hand.error} />
      <div className="mt-5 flex justify-end gap-2">
        <Button onClick={onClose}>Keep it</Button>
        <Button look="seal" disabled={hand.isPending} onClick={() => hand.mutate()}>
          Hand it over
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
        Take one over…
      </Button>
      <Sheet title="Take a mailbox over" open={open} onClose={() => setOpen(false)}>
        <p className="mb-4">
          Choose the file that another installation saved when it handed the mailbox over. The mailbox goes on from
          where it was left there; its password is asked for next.
        </p>
        <input
          ref={input}
          type="file"
          accept=".mailbox"
          className="sr-only"
          aria-label="File of the mailbox"
          tabIndex={-1}
          onChange={(e) => {
            if (e.target.files?.[0]) take.mutate(e.target.files[0])
            e.target.value = ''
          }}
        />
        <Wrong error={take.error} />
        <div className="flex justify-end gap-2">
          <Button onClick={() => setOpen(false)}>Cancel</Button>
          <Button look="main" disabled={take.isPending} onClick={() => input.current?.click()}>
            Choose the file…
          </Button>
        </div>
      </Sheet>
    </>
  )
}
