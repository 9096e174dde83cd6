/** Any field against any other: darker is a larger share of its row; a press narrows. */
import { useQuery } from "@tanstack/react-query";
import { type Among, fields as fieldsQuery } from "@/api/queries";
import { count, counted } from "@/lib/format";
import { Loaded } from "@/parts/views";
import { deviceGrid } from "./queries";

const HEAD = "px-2 text-right font-normal text-soft text-xs";

export function Grid({
  row,
  column,
  among,
  onFields,
  onPick,
  isWhole = false,
}: {
  row: string;
  column: string;
  among: Among;
  onFields: (row: string, column: string) => void;
  onPick: (picked: { row?: string; column?: string }) => void;
  /** as tall as it is, for a page that has nothing else to scroll */
  isWhole?: boolean;
}) {
  const found = useQuery(deviceGrid(row, column, among));
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
      <div className="mb-1 flex flex-wrap items-baseline gap-x-2">
        <h2 className="text-[1.05rem]">
          By {choose(row, "Rows", (key) => onFields(key, column))} and{" "}
          {choose(column, "Columns", (key) => onFields(row, key))}
        </h2>
        <p className="ml-auto text-soft text-xs">
          press a cell, a row or a column to narrow; stronger is a larger share of its row
          {!!found.data?.no_row && ` · ${counted(found.data.no_row, "device")} without ${row}`}
        </p>
      </div>
      <Loaded of={found} what="The grid" rows={5} isEmpty={(d) => d.rows.length === 0} empty={null}>
        {(data) => {
          const without = data.without?.some(Boolean) ? data.without : undefined;
          return (
            <div className={`overflow-auto rounded-md border border-rule bg-card ${isWhole ? "" : "max-h-[15rem]"}`}>
              <table className="w-full border-separate border-spacing-[2px]">
                <thead className="sticky top-0 bg-card">
                  <tr>
                    <td />
                    {data.columns.map((c) => (
                      <th key={c} className={HEAD}>
                        <button
                          type="button"
                          className="font-mono hover:text-ink"
                          onClick={() => onPick({ column: c })}
                        >
                          {c}
                        </button>
                      </th>
                    ))}
                    {others(data.cells[0], data.columns) && <th className={HEAD}>other</th>}
                    {without && <th className={HEAD}>none</th>}
                    <th className={HEAD}>all</th>
                  </tr>
                </thead>
                <tbody>
                  {data.cells.map((cells, i) => (
                    <Row
                      key={data.rows[i] ?? ""}
                      name={data.rows[i]}
                      cells={cells}
                      columns={data.columns}
                      total={data.totals[i] ?? null}
                      without={without?.[i]}
                      onPick={onPick}
                    />
                  ))}
                </tbody>
              </table>
            </div>
          );
        }}
      </Loaded>
    </section>
  );
}

/** Whether a row of cells ends with those of the rarer columns together. */
function others(cells: number[] | undefined, columns: string[]) {
  return (cells?.length ?? 0) > columns.length;
}

/** A row of the grid; without a name, that of the rarer values together. What stands for several values is no button. */
function Row({
  name,
  cells,
  columns,
  total,
  without,
  onPick,
}: {
  name?: string;
  cells: number[];
  columns: string[];
  total: number | null;
  without?: number;
  onPick: (picked: { row?: string; column?: string }) => void;
}) {
  const sum = cells.reduce((a, b) => a + b, 0);
  const stronger = (n: number) => ({
    background: `color-mix(in srgb, var(--verdigris) ${Math.round((sum ? n / sum : 0) * 45)}%, var(--card))`,
  });
  return (
    <tr>
      <th className="max-w-[10rem] px-2 text-left font-normal">
        {name === undefined ? (
          <span className="text-soft">other</span>
        ) : (
          <button
            type="button"
            className="w-full truncate text-left hover:underline"
            onClick={() => onPick({ row: name })}
          >
            {name}
          </button>
        )}
      </th>
      {cells.map((n, i) => {
        const column = columns[i];
        if (name === undefined || column === undefined)
          return (
            <td key={column ?? ""} className="h-[25px] px-2 text-right" style={stronger(n)}>
              {n ? count(n) : ""}
            </td>
          );
        return (
          <td key={column} className="p-0">
            <button
              type="button"
              disabled={!n}
              aria-label={`${name}, ${column}: ${counted(n, "device")}`}
              className="block h-[25px] w-full px-2 text-right hover:outline-2 hover:outline-saffron"
              style={stronger(n)}
              onClick={() => onPick({ row: name, column })}
            >
              {n ? count(n) : ""}
            </button>
          </td>
        );
      })}
      {without !== undefined && <td className="px-2 text-right text-soft">{without ? count(without) : ""}</td>}
      <td className="px-2 text-right font-semibold">{total === null ? "" : count(total)}</td>
    </tr>
  );
}
