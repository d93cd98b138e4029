import { t } from '@lingui/core/macro'
import type { RuleDocument } from './document'

/** A letter to begin with. */
export type StartingPoint = { at: string; name: string; rule: RuleDocument }

const byMonth = '<received year>/<received month> <received month name>'

/**
 * The letters that a new rule can begin with: a name, and two or three blanks to fill in. most is the domain that
 * writes most; the first one proposes it.
 */
export function startingPoints(base: Pick<RuleDocument, 'name' | 'cabinet' | 'look'>, most?: string): StartingPoint[] {
  const all: StartingPoint[] = [
    {
      at: 'sender',
      name: t`A sender`,
      rule: {
        ...base,
        match: { sender: { domain: [] } },
        attachments: [{ take: [{ kind: 'pdf' }], folder: t`Mail/${byMonth}` }],
      },
    },
    {
      at: 'subject',
      name: t`Words in the subject`,
      rule: {
        ...base,
        match: { subject: { contains: [] } },
        attachments: [{ take: 'everything', folder: t`Mail/${byMonth}` }],
      },
    },
    {
      at: 'everything',
      name: t`Everything, by year and month`,
      rule: {
        ...base,
        name: t`Everything`,
        match: 'every message',
        attachments: [{ take: 'everything', folder: t`Mail/${byMonth}` }],
      },
    },
    {
      at: 'invoices',
      name: t`Invoices`,
      rule: {
        ...base,
        name: t`Invoices`,
        match: { subject: { contains: ['invoice', 'Rechnung'] } },
        attachments: [
          {
            take: [{ kind: 'pdf' }, { kind: 'e-invoice' }],
            folder: t`Invoices/<received year>/<correspondent or sender.domain>`,
            name: '<received date> <file.stem>',
          },
        ],
      },
    },
    {
      at: 'photos',
      name: t`Photos`,
      rule: {
        ...base,
        name: t`Photos`,
        match: { sender: { domain: [] } },
        attachments: [
          { take: [{ kind: 'picture' }], folder: t`Photos/${byMonth}`, name: '<received date> <file.stem>' },
        ],
      },
    },
  ]
  if (!most) return all
  return [
    {
      at: 'proposed',
      name: t`From ${most}`,
      rule: {
        ...base,
        name: t`From ${most}`,
        match: { sender: { domain: [most] } },
        attachments: [{ take: 'everything', folder: `<sender.domain>/${byMonth}` }],
      },
    },
    ...all,
  ]
}

/** Whether a letter has a blank that is still to be filled in. */
export const hasBlanks = (d: RuleDocument) => JSON.stringify(d.match).includes('[]')
