/** What a browser calls itself, in few words: the engine's name that stands last, and its system. */
export function browserName(agent: string): string {
  const system = /\(([^;)]+)/.exec(agent)?.[1];
  const names = [...agent.matchAll(/([A-Za-z]+)\/[\d.]+/g)].map((m) => m[1]!).filter((n) => n !== "Mozilla");
  const name = names.find((n) => !["AppleWebKit", "Gecko", "Version", "Safari"].includes(n)) ?? names[0];
  if (!name) return agent.slice(0, 40) || "a browser that does not say which";
  return system ? `${name} on ${system}` : name;
}
