/** What Now says of the whole, in a line, and the marks of what waits for a decision. */

const WORDS = ["Nothing", "One", "Two", "Three", "Four", "Five", "Six", "Seven", "Eight", "Nine"];

/** "Two things wait for you; four rollouts are moving." A rollout moves while devices work on it; one that is open with
 * nobody at it does not. While the system itself stands still, nothing is said to move. */
export function headline(
  decisions: number,
  moving: number,
  open = moving,
  standsStill = false,
  whom = "for you",
): string {
  const number = (n: number) => WORDS[n] ?? String(n);
  const waits =
    decisions === 1 ? `One thing waits ${whom}` : `${number(decisions)} ${decisions ? "things wait" : "waits"} ${whom}`;
  const rollouts = (n: number) => (n === 1 ? "one rollout is" : `${number(n).toLowerCase()} rollouts are`);
  const moves = moving
    ? `${rollouts(moving)} moving`
    : open
      ? `${rollouts(open)} running, changing no device now`
      : "no rollout is moving";
  return standsStill ? `${waits}; nothing moves while a part of the system stands still.` : `${waits}; ${moves}.`;
}

export const MARK = { halted: ["■", "text-brick"], stuck: ["◆", "text-saffron"], paused: ["◐", "text-plum"] } as const;
