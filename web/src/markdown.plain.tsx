import ReactMarkdown from "react-markdown";
import gfm from "remark-gfm";

export default function Plain({ text }: { text: string }) {
  return <ReactMarkdown remarkPlugins={[gfm]}>{text}</ReactMarkdown>;
}
