/** One's own password, asked for again before something is changed that signs one in. */
import { Labelled } from "@/parts/controls";

export function PasswordField({ value, onChange }: { value: string; onChange: (to: string) => void }) {
  return (
    <Labelled label="Your password">
      <input
        className="field"
        type="password"
        required
        autoComplete="current-password"
        value={value}
        onChange={(e) => onChange(e.target.value)}
      />
    </Labelled>
  );
}
