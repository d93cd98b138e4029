import { i18n, type Messages } from '@lingui/core'

// One file for each language; the browser loads only the one that is used.
const catalogues = import.meta.glob<{ messages: Messages }>('../../../internal/texts/*.po')

const code = (path: string) => /([^/]+)\.po$/.exec(path)![1]

/** The languages that there are, as tags of BCP 47. */
export const languages = Object.keys(catalogues).map(code).sort()

/** Where the browser keeps the language that a person chose; nothing is kept for the browser's own. */
const chosenIn = 'inktray-language'

/** The language that the person chose, or "" for the browser's own. */
export const chosen = () => {
  try {
    const language = localStorage.getItem(chosenIn) ?? ''
    return languages.includes(language) ? language : ''
  } catch {
    return '' // the browser keeps nothing
  }
}

/** Keeps the choice, "" for the browser's own, and says whether the pages have to be loaded again to use it. */
export function choose(language: string): boolean {
  try {
    if (language) localStorage.setItem(chosenIn, language)
    else localStorage.removeItem(chosenIn)
  } catch {
    return false // the browser keeps nothing
  }
  return nearest(wanted()) !== i18n.locale
}

const wanted = () => [chosen(), ...(globalThis.navigator?.languages ?? [])].filter(Boolean)

/** The first language of a list that there is, with or without its region; else English. */
export function nearest(tags: readonly string[]): string {
  for (const tag of tags) {
    const short = tag.split('-')[0].toLowerCase()
    const found = languages.find((l) => l.toLowerCase() === tag.toLowerCase()) ?? languages.find((l) => l === short)
    if (found) return found
  }
  return 'en'
}

const language = nearest(wanted())
const { messages } = await catalogues[`../../../internal/texts/${language}.po`]().catch((wrong: unknown) => {
  // Without its texts no page can say anything, so this stands here in English.
  const root = globalThis.document?.getElementById('root')
  if (root) root.textContent = 'Ink Tray does not answer. Check that the service runs, then load the page again.'
  throw wrong
})
// Dates and numbers follow the region too, if the browser names one of this language.
const region = wanted().find((t) => t.split('-')[0].toLowerCase() === language) ?? language
i18n.loadAndActivate({ locale: language, locales: [region, language], messages })
if (globalThis.document) document.documentElement.lang = language

/** The tag by which dates and numbers are written. */
export const written = region

export { i18n }
