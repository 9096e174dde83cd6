/** The address of a device's own page, if it reports one as the fact `page_url`: of the web, and of no other kind. */
export function ownPage(facts: unknown): string | null {
  const said = (facts as Record<string, unknown> | null)?.page_url;
  if (typeof said !== "string") return null;
  try {
    const address = new URL(said);
    return ["http:", "https:"].includes(address.protocol) ? address.href : null;
  } catch {
    return null;
  }
}
