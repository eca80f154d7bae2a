import { act, renderHook } from "@testing-library/react";
import { MemoryRouter, useLocation, useNavigate } from "react-router";
import { expect, it } from "vitest";
import { useAddress, withNames } from "./address";

function used() {
  return renderHook(
    () => {
      const [params, change] = useAddress();
      return { params, change, go: useNavigate(), location: useLocation() };
    },
    { wrapper: ({ children }) => <MemoryRouter initialEntries={["/?from=1"]}>{children}</MemoryRouter> },
  );
}

it("keeps a change that is not drawn yet when the next one comes from an older page", () => {
  const { result } = used();
  const old = result.current.change;
  act(() => {
    old((a) => withNames(a, { finding: 7 }));
    // As a gesture that had begun before writes its end.
    old((a) => withNames(a, { from: 2 }));
  });
  expect(result.current.location.search).toBe("?from=2&finding=7");
});

it("begins from where Back went", () => {
  const { result } = used();
  act(() => result.current.change((a) => withNames(a, { finding: 7 })));
  act(() => void result.current.go(-1));
  act(() => result.current.change((a) => withNames(a, { to: 3 })));
  expect(result.current.location.search).toBe("?from=1&to=3");
});

it("takes out what is empty", () => {
  expect(withNames(new URLSearchParams("a=1&b=2"), { a: "", c: 0, b: null }).toString()).toBe("c=0");
});
