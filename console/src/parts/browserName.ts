/**
 * What a browser calls itself, in few words. In what it sends, the first two products are those of all browsers
 * and the last one is often another's; what stands between is its own name (RFC 9110, section 10.1.5).
 */
export function browserName(agent: string): string {
  const system = /\(([^;)]+)/.exec(agent)?.[1];
  const names = [...agent.matchAll(/([A-Za-z]+)\/[\d.]+/g)].map((m) => m[1]!).filter((n) => n !== "Version");
  const own = names.length > 2 ? names.slice(2) : names.slice(-1);
  const name = own[0];
  if (!name) return agent.slice(0, 40) || "a browser that does not say which";
  return system ? `${name} on ${system}` : name;
}
