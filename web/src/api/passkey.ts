import { t } from '@lingui/core/macro'
import {
  browserSupportsWebAuthn,
  type PublicKeyCredentialCreationOptionsJSON,
  type PublicKeyCredentialRequestOptionsJSON,
  startAuthentication,
  startRegistration,
  WebAuthnError,
} from '@simplewebauthn/browser'

import { api, value } from './client'

/** Whether this browser can speak with a device about passkeys, here. */
export const passkeysWork = () => browserSupportsWebAuthn()

/** What somebody is told where the device, or whoever holds it, said no. */
function inWords(error: unknown): unknown {
  const name = error instanceof Error ? error.name : ''
  if (name === 'InvalidStateError') return new Error(t`This device has a passkey of yours already.`)
  if (name === 'NotAllowedError' || name === 'AbortError')
    return new Error(t`The device gave no answer, or you said no. Nothing was changed.`)
  if (error instanceof WebAuthnError || name === 'SecurityError' || name === 'NotSupportedError')
    return new Error(t`The browser cannot use a passkey here: ${(error as Error).message}`)
  return error
}

/** Lets the device make a passkey, and keeps it. */
export async function addPasskey({ password, name }: { password: string; name: string }) {
  const asked = await value(api.POST('/api/v1/me/passkeys/begin', { body: { password } }))
  try {
    const credential = await startRegistration({
      optionsJSON: asked.options as unknown as PublicKeyCredentialCreationOptionsJSON,
    })
    return await value(
      api.POST('/api/v1/me/passkeys', { body: { ticket: asked.ticket, name, credential: { ...credential } } }),
    )
  } catch (e) {
    throw inWords(e)
  }
}

/** Signs in with the passkey of whatever device is at hand. */
export async function signInByPasskey() {
  const asked = await value(api.POST('/api/v1/sessions/passkey/begin'))
  try {
    const credential = await startAuthentication({
      optionsJSON: asked.options as unknown as PublicKeyCredentialRequestOptionsJSON,
    })
    return await value(
      api.POST('/api/v1/sessions/passkey', { body: { ticket: asked.ticket, credential: { ...credential } } }),
    )
  } catch (e) {
    throw inWords(e)
  }
}
