/** An address within this service, "/" for any other: read as the browser reads it, which leaves out tabs and line ends. */
export function within(to: string | null, origin: string): string {
  try {
    const at = new URL(to ?? "/", origin);
    return at.origin === origin && at.pathname.startsWith("/") && !at.pathname.startsWith("//")
      ? at.pathname + at.search + at.hash
      : "/";
  } catch {
    return "/";
  }
}
