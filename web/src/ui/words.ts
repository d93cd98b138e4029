import { t } from '@lingui/core/macro'

/**
 * The words that Ink Tray uses in its own sense: each in English, as people read it, what it means, and
 * where the book tells more. docs/glossary.md says the same.
 */
export const words: [word: string, said: string, means: string, at: string][] = [
  [
    'cabinet',
    t`cabinet`,
    t`a place where Ink Tray keeps files: a folder on this machine, WebDAV, SFTP or an object store`,
    '/book/cabinets',
  ],
  ['correspondent', t`correspondent`, t`a person or firm, with its addresses and domains`, '/book/tasks'],
  ['drop address', t`drop address`, t`an address at which Ink Tray itself receives mail`, '/book/drop-addresses'],
  [
    'filing',
    t`filing`,
    t`one file that one rule put into one cabinet. Each filing has a number, such as 2026-0012`,
    '/book/register#a-filings-story',
  ],
  [
    'follow-up',
    t`follow-up`,
    t`what Ink Tray does with a message once its attachments are filed, such as a label or a reply`,
    '/book/afterwards#what-a-rule-does-with-the-message',
  ],
  [
    'hold',
    t`hold`,
    t`a rule or a safeguard keeps something in the tray until you decide`,
    '/book/trust#held-for-your-decision',
  ],
  [
    'lookup table',
    t`lookup table`,
    t`a table of two or more columns that patterns use, such as a ship and its agent`,
    '/book/patterns',
  ],
  ['mailbox', t`mailbox`, t`a place where messages arrive and that Ink Tray watches`, '/book/mailboxes'],
  ['old mail', t`old mail`, t`messages that were there before a rule was on`, '/book/rules#before-it-runs'],
  [
    'pass',
    t`pass`,
    t`one go over messages: live mail, old mail, by hand, or taking back`,
    '/book/afterwards#history-and-taking-back',
  ],
  ['pattern', t`pattern`, t`text with fields, from which a folder or a file name is made`, '/book/patterns'],
  ['register', t`register`, t`the list of all filings`, '/book/register'],
  [
    'rehearsal',
    t`rehearsal`,
    t`what a rule would do with the mail that is there. It writes nothing`,
    '/book/rules#before-it-runs',
  ],
  ['rule', t`rule`, t`what to look for, what to take, where to file it, and what to do afterwards`, '/book/rules'],
  [
    'safeguards',
    t`safeguards`,
    t`what every rule does unless it says otherwise, such as leaving out small pictures in signatures`,
    '/book/rules#attachments',
  ],
  ['topic', t`topic`, t`what messages are about, learned from examples`, '/book/topics'],
  ['tray', t`tray`, t`what waits for a person, with its reason`, '/book/afterwards#the-tray'],
  [
    'value',
    t`value`,
    t`a number, date, amount or text that a rule reads from a paper and keeps in the register`,
    '/book/values#values',
  ],
  [
    'verdict',
    t`verdict`,
    t`what Ink Tray decided for a message or an item: filed, left out, held, failed, or already there`,
    '/book/rules#before-it-runs',
  ],
]

/** A word of Ink Tray's own as people read it. */
export const nameOf = (word: string) => words.find(([w]) => w === word)?.[1] ?? word
