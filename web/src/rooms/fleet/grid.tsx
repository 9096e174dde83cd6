/** Any field against any other: darker is a larger share of its row; a press narrows. */
import { useQuery } from "@tanstack/react-query";
import { type Among, deviceGrid, fields as fieldsQuery } from "@/api/queries";
import { Problem } from "@/parts/controls";
import { count, counted } from "@/parts/format";

export function Grid({
  row,
  column,
  among,
  onFields,
  onPick,
}: {
  row: string;
  column: string;
  among: Among;
  onFields: (row: string, column: string) => void;
  onPick: (picked: { row?: string; column?: string }) => void;
}) {
  const { data, error } = useQuery(deviceGrid(row, column, among));
  const { data: fields } = useQuery(fieldsQuery);
  const choices = fields?.filter((f) => f.type !== "time" && !["uid", "name", "serial"].includes(f.key)) ?? [];
  const choose = (value: string, label: string, change: (key: string) => void) => (
    <select
      className="slot bg-transparent font-semibold"
      aria-label={label}
      value={value}
      onChange={(e) => change(e.target.value)}
    >
      {choices.map((f) => (
        <option key={f.key} value={f.key}>
          {f.key}
        </option>
      ))}
    </select>
  );
  return (
    <section aria-label="Grid">
      <div className="mb-1 flex items-baseline gap-2">
        <h2 className="text-[1.05rem]">
          By {choose(row, "Rows", (key) => onFields(key, column))} and{" "}
          {choose(column, "Columns", (key) => onFields(row, key))}
        </h2>
        <p className="ml-auto text-soft text-xs">
          press a cell, a row or a column to narrow; stronger is a larger share of its row
          {data && data.others > 0 && ` · ${counted(data.others, "device")} not in the grid`}
        </p>
      </div>
      <Problem error={error} />
      {data && data.rows.length > 0 && !error && (
        <div className="max-h-[15rem] overflow-auto rounded-md border border-rule bg-card">
          <table className="w-full border-separate border-spacing-[2px]">
            <thead className="sticky top-0 bg-card">
              <tr>
                <td />
                {data.columns.map((c) => (
                  <th key={c} className="font-normal text-soft text-xs">
                    <button
                      type="button"
                      className="w-full font-mono hover:text-ink"
                      onClick={() => onPick({ column: c })}
                    >
                      {c}
                    </button>
                  </th>
                ))}
                <th className="font-normal text-soft text-xs">all</th>
              </tr>
            </thead>
            <tbody>
              {data.rows.map((r, i) => (
                <Row key={r} name={r} cells={data.cells[i] ?? []} columns={data.columns} onPick={onPick} />
              ))}
            </tbody>
          </table>
        </div>
      )}
    </section>
  );
}

function Row({
  name,
  cells,
  columns,
  onPick,
}: {
  name: string;
  cells: number[];
  columns: string[];
  onPick: (picked: { row?: string; column?: string }) => void;
}) {
  const total = cells.reduce((a, b) => a + b, 0);
  return (
    <tr>
      <th className="max-w-[10rem] px-2 text-left font-normal">
        <button
          type="button"
          className="w-full truncate text-left hover:underline"
          onClick={() => onPick({ row: name })}
        >
          {name}
        </button>
      </th>
      {cells.map((n, i) => {
        const share = total ? n / total : 0;
        const column = columns[i] ?? "";
        return (
          <td key={column} className="p-0">
            <button
              type="button"
              disabled={!n}
              aria-label={`${name}, ${column}: ${counted(n, "device")}`}
              className="h-[25px] w-full px-2 text-right hover:outline-2 hover:outline-saffron"
              style={{ background: `color-mix(in srgb, var(--verdigris) ${Math.round(share * 45)}%, var(--card))` }}
              onClick={() => onPick({ row: name, column })}
            >
              {n ? count(n) : ""}
            </button>
          </td>
        );
      })}
      <td className="px-2 text-right font-semibold">{count(total)}</td>
    </tr>
  );
}
