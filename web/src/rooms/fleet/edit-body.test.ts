import { expect, it } from "vitest";
import { editBody } from "./edit-body";

const target = { devices: ["a"], rule: "" };

it("asks for nothing while something is lacking", () => {
  expect(editBody("add_tags", "", " , ", target)).toBeNull();
  expect(editBody("remove_tags", "", " ; ", target)).toBeNull();
  expect(editBody("set", "", "olive", target)).toBeNull();
  expect(editBody("set", "crop", " ", target)).toBeNull();
  expect(editBody("site", "", "", target)).toBeNull();
});

it("takes several tags however they are parted", () => {
  expect(editBody("add_tags", "", "lab, pilot;x", target)).toEqual({ target, add_tags: ["lab", "pilot", "x"] });
});

it("says what a value is for", () => {
  expect(editBody("set", "crop", "olive oil", target)).toEqual({ target, set_attributes: { crop: "olive oil" } });
  expect(editBody("clear", "crop", "", target)).toEqual({ target, clear_attributes: ["crop"] });
  expect(editBody("retire", "", "", target)).toEqual({ target, admission: "retired" });
});
