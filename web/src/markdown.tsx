// Markdown, loaded when there is some; formulas only where a text has them.
import { lazy, Suspense } from "react";

const Plain = lazy(() => import("./markdown.plain"));
const Formulas = lazy(() => import("./markdown.math"));

export function Markdown({ text }: { text: string }) {
  const Body = /\$[^$\n]+\$/.test(text) ? Formulas : Plain;
  return (
    <div className="prose text-base leading-normal">
      <Suspense fallback={<p className="whitespace-pre-wrap">{text}</p>}>
        <Body text={text} />
      </Suspense>
    </div>
  );
}
