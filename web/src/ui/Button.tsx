import type { ButtonHTMLAttributes } from "react";

type Look = "plain" | "primary" | "warn" | "quiet" | "well";

const LOOKS: Record<Look, string> = {
  plain: "border-line bg-raise text-ink hover:border-ink-3",
  primary: "border-tide bg-tide text-on-tide font-semibold hover:brightness-110",
  warn: "border-brick/40 bg-brick-2 text-brick hover:border-brick",
  quiet: "border-transparent bg-transparent text-tide font-semibold hover:bg-tide-2",
  well: "border-transparent bg-transparent text-on-well hover:bg-well-3 aria-pressed:bg-(--on-picture) aria-pressed:text-(--dark-on-picture) aria-pressed:font-semibold",
};

export function Button({
  look = "plain",
  className = "",
  type = "button",
  ...rest
}: ButtonHTMLAttributes<HTMLButtonElement> & { look?: Look }) {
  return (
    <button
      type={type}
      className={`inline-flex h-[30px] items-center gap-1.5 rounded-[7px] border px-2.5 text-[13px] whitespace-nowrap disabled:opacity-45 ${LOOKS[look]} ${className}`}
      {...rest}
    />
  );
}
