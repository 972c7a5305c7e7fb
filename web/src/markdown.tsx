// Markdown, loaded when there is some; formulas only where a text has them.
import { lazy, Suspense } from "react";
import { hasFormulas, moneyEscaped } from "./formulas";

const Plain = lazy(() => import("./markdown.plain"));
const Formulas = lazy(() => import("./markdown.math"));

export function Markdown({ text }: { text: string }) {
  const formulas = hasFormulas(text);
  const Body = formulas ? Formulas : Plain;
  return (
    <div className="prose text-base leading-normal">
      <Suspense fallback={<p className="whitespace-pre-wrap">{text}</p>}>
        <Body text={formulas ? moneyEscaped(text) : text} />
      </Suspense>
    </div>
  );
}
