import { ApiError, type Schemas } from "./client";

type Asked = Schemas["PasskeyAsked"];

/** Whether this browser makes and opens passkeys here: it must know of them, and be in private. */
export const passkeysWork = (): boolean => window.isSecureContext && typeof window.PublicKeyCredential?.parseRequestOptionsFromJSON === "function";

/** A browser says why in its own words; for people it comes down to two. */
function refused(error: unknown): Error {
  if (error instanceof ApiError) return error;
  const isGivenUp = error instanceof DOMException && (error.name === "NotAllowedError" || error.name === "AbortError");
  return new Error(isGivenUp ? "The passkey was not given." : `The browser cannot do that: ${error instanceof Error ? error.message : String(error)}`);
}

async function answered(ask: () => Promise<Credential | null>): Promise<Record<string, never>> {
  try {
    const credential = await ask();
    if (!(credential instanceof PublicKeyCredential)) throw new Error("no passkey came");
    return credential.toJSON() as Record<string, never>;
  } catch (error) {
    throw refused(error);
  }
}

/** What the browser is given: its own functions look whether it is what it should be. */
const given = <T>({ options }: Asked): T => (options as unknown as { publicKey: T }).publicKey;

/** Has the device make a passkey. */
export const makePasskey = (asked: Asked) =>
  answered(() => navigator.credentials.create({ publicKey: PublicKeyCredential.parseCreationOptionsFromJSON(given<PublicKeyCredentialCreationOptionsJSON>(asked)) }));

/** Has the device open one. */
export const openPasskey = (asked: Asked) =>
  answered(() => navigator.credentials.get({ publicKey: PublicKeyCredential.parseRequestOptionsFromJSON(given<PublicKeyCredentialRequestOptionsJSON>(asked)) }));
