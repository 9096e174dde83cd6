/** Which days of the week, by number from Monday 0; none chosen is every day. */

const DAYS = ["Mon", "Tue", "Wed", "Thu", "Fri", "Sat", "Sun"];

export function Days({ chosen, onChange }: { chosen: number[]; onChange: (days: number[]) => void }) {
  return (
    <fieldset>
      <legend className="mb-1 font-semibold text-soft">On (none ticked: every day)</legend>
      <div className="flex flex-wrap gap-3">
        {DAYS.map((name, day) => (
          <label key={name} className="flex min-h-[30px] items-center gap-1">
            <input
              type="checkbox"
              className="accent-[var(--verdigris)]"
              checked={chosen.includes(day)}
              onChange={(e) => onChange(e.target.checked ? [...chosen, day].sort() : chosen.filter((d) => d !== day))}
            />
            {name}
          </label>
        ))}
      </div>
    </fieldset>
  );
}
