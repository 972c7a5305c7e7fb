import "katex/dist/katex.min.css";
import ReactMarkdown from "react-markdown";
import katex from "rehype-katex";
import gfm from "remark-gfm";
import math from "remark-math";

export default function Formulas({ text }: { text: string }) {
  return (
    <ReactMarkdown remarkPlugins={[gfm, math]} rehypePlugins={[katex]}>
      {text}
    </ReactMarkdown>
  );
}
