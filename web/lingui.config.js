import { defineConfig } from '@lingui/cli'
import { formatter } from '@lingui/format-po'

// In the code of the console its texts are in English. internal/texts has one file for each language, and a new
// language is one more file there. The same files hold the texts of the service and the command line, with the context
// "service": these are not the console's, so they are left as they are. "npm run texts" brings the files up to date
// with the code.
const po = formatter({ lineNumbers: false })
const blocks = (content) => content.trimEnd().split('\n\n')
const ofService = (block) => block.includes('msgctxt "service"')
const ofConsole = (content) =>
  blocks(content)
    .filter((b) => !ofService(b))
    .join('\n\n') + '\n'

export default defineConfig({
  sourceLocale: 'en',
  locales: ['en', 'de'],
  fallbackLocales: { default: 'en' }, // a text that is not translated yet is shown in English
  catalogs: [
    {
      path: '<rootDir>/../internal/texts/{locale}',
      include: ['<rootDir>/src'],
      exclude: ['**/*.test.*', '**/*.d.ts'],
    },
  ],
  format: {
    ...po,
    parse: (content, context) => po.parse(ofConsole(content), context),
    serialize: async (catalog, context) => {
      const existing = context.existing ?? ''
      const written = await po.serialize(catalog, { ...context, existing: existing && ofConsole(existing) })
      return [written.trimEnd(), ...blocks(existing).filter(ofService)].join('\n\n') + '\n'
    },
  },
  runtimeConfigModule: { i18n: ['#language', 'i18n'] },
})
