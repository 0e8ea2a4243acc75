import { expect, test } from "vitest";
import { mayAct, mayDo } from "./roles";

test("a role may do what those below may, and a machine nothing here", () => {
  expect(mayDo("admin", "operator")).toBe(true);
  expect(mayDo("operator", "admin")).toBe(false);
  expect(mayDo("viewer", "viewer")).toBe(true);
  for (const role of ["worker", "supplier", null, undefined] as const) {
    expect(mayDo(role, "viewer")).toBe(false);
  }
  expect(mayDo("admin", "worker")).toBe(false);
});

test("what destroys something is for admins", () => {
  expect(mayAct("operator", "again")).toBe(true);
  expect(mayAct("operator", "delete")).toBe(false);
  expect(mayAct("viewer", "forget")).toBe(false);
  expect(mayAct("admin", "unload")).toBe(true);
});
