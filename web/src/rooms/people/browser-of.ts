/** What a browser calls itself, in two words that its user knows it by. */
const BROWSERS: [RegExp, string][] = [
  [/Edg\//, "Edge"],
  [/OPR\//, "Opera"],
  [/Firefox\//, "Firefox"],
  [/Chrom(e|ium)\//, "Chromium"],
  [/Safari\//, "Safari"],
];
const SYSTEMS: [RegExp, string][] = [
  [/Android/, "Android"],
  [/iPhone|iPad/, "iOS"],
  [/Windows/, "Windows"],
  [/Mac OS X/, "macOS"],
  [/Linux/, "Linux"],
];

export function browserOf(agent: string): string {
  const found = [BROWSERS, SYSTEMS].map((known) => known.find(([mark]) => mark.test(agent))?.[1]);
  return found.filter(Boolean).join(" on ") || agent.split("/")[0] || "An unknown program";
}
