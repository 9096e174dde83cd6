/** What the fleet view keeps in its address: fields of `columns` and of `grid` are between commas. */
export interface FleetAddress {
  rule?: string;
  q?: string;
  order?: string;
  columns?: string;
  grid?: string;
}
