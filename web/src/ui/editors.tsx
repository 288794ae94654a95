/** Editors of code, loaded when a step first shows one: they weigh as much as half the page. */
import { type ComponentProps, lazy, Suspense } from "react";

const Edit = lazy(() => import("./CodeEditor").then((m) => ({ default: m.CodeEditor })));
const Difference = lazy(() => import("./CodeEditor").then((m) => ({ default: m.CodeDifference })));

export type { Language } from "./CodeEditor";

export function CodeEditor(props: ComponentProps<typeof Edit>) {
  return (
    <Suspense fallback={<div className="code-editor" aria-busy="true" />}>
      <Edit {...props} />
    </Suspense>
  );
}

/** Two texts side by side with what changed between them. */
export function CodeDifference(props: ComponentProps<typeof Difference>) {
  return (
    <Suspense fallback={<div className="code-editor difference" aria-busy="true" />}>
      <Difference {...props} />
    </Suspense>
  );
}
