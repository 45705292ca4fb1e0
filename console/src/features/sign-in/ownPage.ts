/** Where to go after signing in: a page of ours, or the first one if that is none. */
export function ownPage(to: string | null): string {
  if (!to?.startsWith("/")) return "/";
  const { origin, pathname, search } = new URL(to, window.location.origin);
  return origin === window.location.origin ? pathname + search : "/";
}
