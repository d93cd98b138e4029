import { Dialog, Popover } from 'radix-ui'
import type { ReactNode, RefObject } from 'react'

/** What lies over a page. It is loaded after the page is there, see Opens and Sheet. */

export type CardProps = {
  label: string
  /** The button that opened it. */
  from: RefObject<HTMLElement | null>
  align?: 'start' | 'center' | 'end'
  className: string
  open: boolean
  onClose: () => void
  children: ReactNode
}

/** A card beside the button that opens it. */
export function Card({ label, from, align, className, open, onClose, children }: CardProps) {
  return (
    <Popover.Root open={open} onOpenChange={(o) => !o && onClose()}>
      <Popover.Anchor virtualRef={from} />
      <Popover.Portal>
        <Popover.Content
          aria-label={label}
          sideOffset={6}
          align={align}
          collisionPadding={12}
          className={`z-20 rounded-xl border border-line bg-sheet text-[15px] leading-normal shadow-sheet ${className}`}
          onInteractOutside={(e) => {
            if (e.target instanceof Node && from.current?.contains(e.target)) e.preventDefault() // it closes by itself
          }}
          onCloseAutoFocus={(e) => {
            // The keyboard goes back to the button, unless something else was clicked.
            e.preventDefault()
            const at = document.activeElement
            if (!at || at === document.body) from.current?.focus({ preventScroll: true })
          }}
        >
          {children}
        </Popover.Content>
      </Popover.Portal>
    </Popover.Root>
  )
}

export type SheetProps = {
  title: string
  /** It holds more than a few blanks. */
  wide?: boolean
  open: boolean
  onClose: () => void
  children: ReactNode
}

/** Something that has to be answered, before the page goes on. */
export function Over({ title, wide, open, onClose, children }: SheetProps) {
  return (
    <Dialog.Root open={open} onOpenChange={(o) => !o && onClose()}>
      <Dialog.Portal>
        <Dialog.Overlay className="fixed inset-0 z-30 bg-black/40" />
        <Dialog.Content
          aria-describedby={undefined}
          className={`fixed top-1/2 left-1/2 z-40 max-h-[90vh] ${wide ? 'w-[min(94vw,52rem)]' : 'w-[min(94vw,34rem)]'} -translate-x-1/2 -translate-y-1/2 overflow-auto rounded-xl border border-line bg-sheet p-6 shadow-sheet`}
        >
          <Dialog.Title className="mb-4 text-xl">{title}</Dialog.Title>
          {children}
        </Dialog.Content>
      </Dialog.Portal>
    </Dialog.Root>
  )
}
