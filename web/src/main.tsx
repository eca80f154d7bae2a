import "@fontsource/alegreya/400-italic.css";
import "@fontsource/alegreya/500.css";
import "@fontsource/atkinson-hyperlegible-mono/400.css";
import "@fontsource/atkinson-hyperlegible-next/400.css";
import "@fontsource/atkinson-hyperlegible-next/600.css";
import "@mantine/core/styles.css";
import "./theme/base.css";
import { MantineProvider } from "@mantine/core";
import { ModalsProvider } from "@mantine/modals";
import { QueryClient, QueryClientProvider } from "@tanstack/react-query";
import { createRoot } from "react-dom/client";
import { BrowserRouter } from "react-router";
import { Problem } from "./api/client";
import { App } from "./app";
import { nonce } from "./parts/nonce";
import { theme, variables } from "./theme/theme";

const client = new QueryClient({
  defaultOptions: {
    queries: {
      staleTime: 15_000,
      // An answer that says what is wrong stays so; only a lost connection is worth another try.
      retry: (count, error) => !(error instanceof Problem) && count < 4,
    },
  },
});

createRoot(document.getElementById("root") as HTMLElement).render(
  <MantineProvider
    theme={theme}
    cssVariablesResolver={variables}
    defaultColorScheme="auto"
    getStyleNonce={() => nonce}
  >
    <QueryClientProvider client={client}>
      <BrowserRouter>
        <ModalsProvider>
          <App />
        </ModalsProvider>
      </BrowserRouter>
    </QueryClientProvider>
  </MantineProvider>,
);
