import { expect, test } from "vitest";
import { idsIn } from "./ids-in";

test("ids are read from lines, commas and blanks, each once", () => {
  expect(idsIn("sill-1\r\nsill-2, sill-1;sill-3 ")).toEqual(["sill-1", "sill-2", "sill-3"]);
  expect(idsIn("  \n ")).toEqual([]);
});

test("of a table with a heading the first column counts", () => {
  expect(idsIn('\uFEFFuid,model,site\n"A-1",Sill 400,Hill\nA-2,Sill 400,"Oxbow, west"\n')).toEqual(["A-1", "A-2"]);
  expect(idsIn("name\nsill-1\nsill-2")).toEqual(["sill-1", "sill-2"]);
});
