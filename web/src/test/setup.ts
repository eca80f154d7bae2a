import { cleanup, configure } from "@testing-library/react";
import { afterEach } from "vitest";

// What the component library asks of a browser and jsdom has not.
window.matchMedia = (query) =>
  ({
    matches: false,
    media: query,
    addEventListener: () => undefined,
    removeEventListener: () => undefined,
  }) as unknown as MediaQueryList;
window.ResizeObserver = class {
  observe() {}
  unobserve() {}
  disconnect() {}
};
afterEach(cleanup);

// On a machine that is busy with the other tests a second is too short for a page to settle.
configure({ asyncUtilTimeout: 10_000 });
// jsdom lays nothing out.
Element.prototype.scrollIntoView = () => undefined;
