/** The rooms of the house: their words, addresses, and the letter that `g` goes to them with. */
export const ROOMS = [
  { word: "Now", to: "/", letter: "n" },
  { word: "Fleet", to: "/fleet", letter: "f" },
  { word: "Groups", to: "/groups", letter: "g" },
  { word: "Rollouts", to: "/rollouts", letter: "r" },
  { word: "Commands", to: "/commands", letter: "c" },
  { word: "Calendar", to: "/calendar", letter: "a" },
  { word: "Library", to: "/library", letter: "l" },
  { word: "Record", to: "/record", letter: "e" },
] as const;
