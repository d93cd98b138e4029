/** The sections of the settings with their addresses, and their headings with the words by which they are found. */
export const sections = [
  {
    at: 'mailboxes',
    name: 'Mailboxes',
    about: 'Where messages arrive.',
    headings: [
      [
        'Mailboxes',
        'imap jmap pop3 account mail server password sign in consent oauth drop address maildir import move',
      ],
    ],
  },
  {
    at: 'cabinets',
    name: 'Cabinets',
    about: 'Where Ink Tray keeps the files.',
    term: 'cabinet',
    headings: [['Cabinets', 'folder server webdav sftp s3 storage store disk free space']],
  },
  {
    at: 'correspondents',
    name: 'Correspondents',
    about: 'Who writes to the office, and the names that their folders get.',
    term: 'correspondent',
    headings: [['Correspondents', 'sender address domain company password archive']],
  },
  {
    at: 'topics',
    name: 'Topics',
    about: 'What messages are about, learned from examples.',
    term: 'topic',
    headings: [['Topics', 'about examples keywords learn teach meaning subject']],
  },
  {
    at: 'tables',
    name: 'Tables',
    about: 'What codes in names stand for.',
    term: 'lookup table',
    headings: [['Tables', 'lookup code list']],
  },
  {
    at: 'notifications',
    name: 'Notifications',
    about: 'How Ink Tray sends mail, and who gets a message when something happens.',
    headings: [
      ['Outgoing mail', 'smtp send reply sender server password'],
      ['Notifications', 'people who are told mail call webhook digest tray daily'],
      ['Alarms', 'silence nothing filed out of reach warn'],
    ],
  },
  {
    at: 'safety',
    name: 'Safety',
    about: 'Which senders count as verified, and how much a rule may file.',
    headings: [
      ['Verified senders', 'trust trusted mail servers dkim spf authentication virus scanner clamav replies'],
      ['Limits', 'history days kept cap hour connections files spool'],
    ],
  },
  {
    at: 'register',
    name: 'Register',
    about: 'The list of everything that was filed: as a file, verified, and searched.',
    headings: [
      ['The register as a file', 'export workbook xlsx csv spreadsheet'],
      ['Verification', 'verify checksum missing changed'],
      ['Words inside of files', 'full text search inside index'],
      ['Scans', 'ocr tesseract text recognition languages pages'],
      ['Erasing a person’s traces', 'privacy delete personal data gdpr'],
    ],
  },
  {
    at: 'service',
    name: 'Service',
    about: 'Backups, other machines, and whether everything works.',
    headings: [
      ['Check-up', 'doctor check everything problem works'],
      ['Backups', 'restore copy'],
      ['Replica', 'standby take over copy'],
      ['Machines', 'office several other'],
      ['Ink Tray’s own records', 'database check key sqlite'],
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
