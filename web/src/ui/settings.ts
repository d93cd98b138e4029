import { t } from '@lingui/core/macro'
/** The sections of the settings with their addresses, and their headings with the words by which they are found. */
export const sections = [
  {
    at: 'mailboxes',
    name: t`Mailboxes`,
    about: t`Where messages arrive.`,
    headings: [
      [
        t`Mailboxes`,
        t`imap jmap pop3 account mail server password sign in consent oauth drop address maildir import move`,
      ],
    ],
  },
  {
    at: 'cabinets',
    name: t`Cabinets`,
    about: t`Where Ink Tray keeps the files.`,
    term: 'cabinet',
    headings: [[t`Cabinets`, t`folder server webdav sftp s3 storage store disk free space`]],
  },
  {
    at: 'correspondents',
    name: t`Correspondents`,
    about: t`Who writes to the office, and the names that their folders get.`,
    term: 'correspondent',
    headings: [[t`Correspondents`, t`sender address domain company password archive`]],
  },
  {
    at: 'topics',
    name: t`Topics`,
    about: t`What messages are about, learned from examples.`,
    term: 'topic',
    headings: [[t`Topics`, t`about examples keywords learn teach meaning subject`]],
  },
  {
    at: 'tables',
    name: t`Tables`,
    about: t`What codes in names stand for.`,
    term: 'lookup table',
    headings: [[t`Tables`, t`lookup code list`]],
  },
  {
    at: 'notifications',
    name: t`Notifications`,
    about: t`How Ink Tray sends mail, and who gets a message when something happens.`,
    headings: [
      [t`Outgoing mail`, t`smtp send reply sender server password`],
      [t`Notifications`, t`people who are told mail call webhook digest tray daily`],
      [t`Alarms`, t`silence nothing filed out of reach warn`],
    ],
  },
  {
    at: 'safety',
    name: t`Safety`,
    about: t`Which senders count as verified, and how much a rule may file.`,
    headings: [
      [t`Verified senders`, t`trust trusted mail servers dkim spf authentication virus scanner clamav replies`],
      [t`Limits`, t`history days kept cap hour connections files spool`],
    ],
  },
  {
    at: 'register',
    name: t`Register`,
    about: t`The list of everything that was filed: as a file, verified, and searched.`,
    headings: [
      [t`The register as a file`, t`export workbook xlsx csv spreadsheet`],
      [t`Verification`, t`verify checksum missing changed`],
      [t`Words inside of files`, t`full text search inside index`],
      [t`Scans`, t`ocr tesseract text recognition languages pages`],
      [t`Erasing a person’s traces`, t`privacy delete personal data gdpr`],
    ],
  },
  {
    at: 'service',
    name: t`Service`,
    about: t`Backups, other machines, and whether everything works.`,
    headings: [
      ['Check-up', t`doctor check everything problem works`],
      [t`Backups`, t`restore copy`],
      [t`Replica`, t`standby take over copy`],
      [t`Machines`, t`office several other`],
      [t`Ink Tray’s own records`, t`database check key sqlite`],
    ],
  },
] as const

export type Section = (typeof sections)[number]['at']

/** The address of a heading. */
export const slug = (heading: string) =>
  heading
    .toLowerCase()
    .replace(/[^a-z]+/g, '-')
    .replace(/^-|-$/g, '')

/** The headings that fit what somebody looks for: all the words of it, in any order, in the name or beside it. */
export function settingsFor(text: string): { section: Section; heading: string; of: string }[] {
  const words = text.toLowerCase().split(/\s+/).filter(Boolean)
  if (words.length === 0) return []
  return sections.flatMap((s) =>
    s.headings
      .filter(([heading, beside]) => {
        const all = `${s.name} ${heading} ${beside}`.toLowerCase()
        return words.every((w) => all.includes(w))
      })
      .map(([heading]) => ({ section: s.at, heading, of: s.name })),
  )
}
