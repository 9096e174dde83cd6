/** Asking the browser for passkeys: to sign in, to show who one is, and to make one. */
import {
  browserSupportsWebAuthn,
  type PublicKeyCredentialCreationOptionsJSON,
  type PublicKeyCredentialRequestOptionsJSON,
  startAuthentication,
  startRegistration,
  WebAuthnError,
} from "@simplewebauthn/browser";
import { api, body } from "@/api/client";

/** A credential as the API takes it. */
export type Told = Record<string, unknown>;

/** Why passkeys cannot be used here; null where they can. Browsers keep them for names, over HTTPS or on this machine. */
export function whyNone(place: Pick<Location, "hostname" | "port" | "protocol"> = location): string | null {
  if (/^[\d.]+$|^\[/.test(place.hostname)) {
    const isHere = place.hostname === "127.0.0.1" || place.hostname === "[::1]";
    const there = `${place.protocol}//localhost${place.port && `:${place.port}`}`;
    return isHere
      ? `Passkeys belong to a name, not to a number: open ${there} to use one.`
      : "Passkeys belong to a name, not to a number: open Brisk Herald by its host name to use one.";
  }
  return browserSupportsWebAuthn() ? null : "This browser keeps no passkeys for this page; it has to come over HTTPS.";
}

/** Ask for a passkey, whoever's it is; what it says goes to the server. */
export async function askPasskey(): Promise<Told> {
  const { options } = await body(api.POST("/api/v1/session/passkey/options"));
  return inWords(
    () => startAuthentication({ optionsJSON: options as unknown as PublicKeyCredentialRequestOptionsJSON }),
    "No passkey was used: it was cancelled, or none on this device is of an account here.",
  );
}

/** Have the browser make a passkey. */
export function makePasskey(options: Record<string, unknown>): Promise<Told> {
  return inWords(
    () => startRegistration({ optionsJSON: options as unknown as PublicKeyCredentialCreationOptionsJSON }),
    "No passkey was made: it was cancelled, or took too long.",
  );
}

async function inWords(ask: () => Promise<object>, otherwise: string): Promise<Told> {
  try {
    return { ...(await ask()) };
  } catch (error) {
    if (error instanceof WebAuthnError && error.code === "ERROR_AUTHENTICATOR_PREVIOUSLY_REGISTERED")
      throw new Error("This device holds a passkey of this account already.");
    throw new Error(otherwise);
  }
}
