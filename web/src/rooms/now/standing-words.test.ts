import { expect, it } from "vitest";
import { standingWords } from "./standing-words";

const at = () => "Thu 14:00";
const all = { devices: 1200, approved: 900, newest: 600, on_the_way: 0, rollouts: 0, expected_at: null };

it.each([
  [
    { ...all, approved: 1200 },
    "Of 1,200 admitted devices, 1,200 (100%) run an approved version, 600 (50%) the newest for their model.",
  ],
  [
    all,
    "Of 1,200 admitted devices, 900 (75%) run an approved version, 600 (50%) the newest for their model; no running rollout reaches the other 300.",
  ],
  [
    { ...all, on_the_way: 300, expected_at: "2026-12-03T14:00:00Z" },
    "Of 1,200 admitted devices, 900 (75%) run an approved version, 600 (50%) the newest for their model; 300 more are on their way by Thu 14:00.",
  ],
  [
    { ...all, on_the_way: 100 },
    "Of 1,200 admitted devices, 900 (75%) run an approved version, 600 (50%) the newest for their model; 100 more are on their way with no end in sight, and no running rollout reaches 200.",
  ],
  [
    { ...all, devices: 1, approved: 0, newest: 0 },
    "Of 1 admitted device, 0 (0%) run an approved version, 0 (0%) the newest for their model; no running rollout reaches the other 1.",
  ],
])("%o", (standing, words) => expect(standingWords(standing, at)).toBe(words));
