/** Devices in a table, as every room lists them. */
import { useNavigate } from "@tanstack/react-router";
import type { ReactNode } from "react";
import type { Schemas } from "@/api/client";
import { useClock } from "@/lib/clock";
import { relative } from "@/lib/format";
import { type Column, type Ordering, type Selection, Table } from "./table";
import { TagList } from "./tag-list";

type Row = Schemas["DeviceRow"];

export function useDeviceColumns(
  marks?: Map<number, ReactNode>,
  reasons?: Map<number, ReactNode>,
  extra: string[] = [],
): Column<Row>[] {
  const { now } = useClock();
  return [
    {
      key: "name",
      order: "name",
      head: "Device",
      width: "minmax(120px, 1.3fr)",
      cell: (d) => (
        <>
          <strong className="font-semibold">{d.name}</strong> {marks?.get(d.id)}
        </>
      ),
    },
    { key: "model", order: "model", head: "Model", width: "minmax(80px, 0.9fr)", cell: (d) => d.model },
    {
      key: "firmware",
      order: "firmware",
      head: "Firmware",
      width: "minmax(70px, 0.8fr)",
      cell: (d) => <span className="font-mono">{d.firmware ?? <em className="text-soft">none</em>}</span>,
    },
    { key: "site", order: "site", head: "Site", width: "minmax(100px, 1fr)", cell: (d) => d.site },
    ...(reasons
      ? [{ key: "reason", head: "Stopped by", width: "minmax(220px, 3fr)", cell: (d: Row) => reasons.get(d.id) }]
      : []),
    { key: "tags", head: "Tags", width: "minmax(110px, 1.4fr)", cell: (d) => <TagList slugs={d.tags} /> },
    {
      key: "called",
      order: "last_check_in",
      head: "Last check-in",
      width: "minmax(120px, 1fr)",
      cell: (d) =>
        d.last_check_in ? (
          <span className={d.presence === "silent" ? "text-brick" : undefined}>
            {relative(d.last_check_in, now)}
            {d.presence !== "on time" && `, ${d.presence}`}
          </span>
        ) : (
          "never"
        ),
    },
    ...extra.map((key) => ({
      key: `extra-${key}`,
      head: key,
      order: key,
      width: "minmax(90px, 1fr)",
      cell: (d: Row) => String((d.extra as Record<string, unknown>)[key] ?? ""),
    })),
  ];
}

export function DeviceTable({
  label,
  rows,
  marks,
  reasons,
  extra,
  selection,
  ordering,
  onOpen,
  onEnd,
  chosen,
  empty,
}: {
  label: string;
  rows: Row[];
  marks?: Map<number, ReactNode>;
  reasons?: Map<number, ReactNode>;
  extra?: string[];
  selection?: Selection<Row>;
  ordering?: Ordering;
  onOpen?: (row: Row) => void;
  onEnd?: () => void;
  chosen?: number;
  empty?: ReactNode;
}) {
  const navigate = useNavigate();
  const columns = useDeviceColumns(marks, reasons, extra);
  return (
    <Table
      label={label}
      rows={rows}
      columns={columns}
      onOpen={onOpen ?? ((d) => navigate({ to: "/devices/$name", params: { name: d.name } }))}
      onEnd={onEnd}
      chosen={chosen}
      selection={selection}
      ordering={ordering}
      empty={empty}
    />
  );
}
