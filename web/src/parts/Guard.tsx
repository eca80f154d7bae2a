import { Button } from "@mantine/core";
import type { ReactNode } from "react";
import { ErrorBoundary, type FallbackProps } from "react-error-boundary";
import { useLocation } from "react-router";

/** A part of the page that could not be fetched: another version was put in place, or the connection is gone. */
export function isMissingPart(error: unknown): boolean {
  return /dynamically imported module|importing a module|preload/i.test(String((error as Error)?.message));
}

/** Keeps what goes wrong while a screen is drawn within that screen: the rail and the other screens go on. */
export function Guard({ children }: { children: ReactNode }) {
  const { pathname } = useLocation();
  return (
    <ErrorBoundary resetKeys={[pathname]} FallbackComponent={Broken}>
      {children}
    </ErrorBoundary>
  );
}

function Broken({ error, resetErrorBoundary }: FallbackProps) {
  const missing = isMissingPart(error);
  return (
    <div className="padded empty" role="alert">
      <h2>{missing ? "This part of the page could not be fetched" : "This screen cannot be drawn"}</h2>
      <p>
        {missing
          ? "A new version may have been put in place since the page was opened, or the connection was lost."
          : `The page met something it did not expect: ${String((error as Error)?.message ?? error)}. Nothing you stored is lost.`}
      </p>
      <p>
        {missing ? (
          <Button variant="filled" onClick={() => window.location.reload()}>
            Reload
          </Button>
        ) : (
          <Button onClick={resetErrorBoundary}>Try again</Button>
        )}
      </p>
    </div>
  );
}
