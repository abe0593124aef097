import { Fragment } from "react";

/** A sheet's text: words of the device's screen stand between **, and are set off. */
export function Emphasis({ text }: { text: string }) {
  return text.split("**").map((part, i) => {
    const plain = part.replaceAll("*", "");
    return i % 2 ? (
      <b key={i} className="font-semibold">
        {plain}
      </b>
    ) : (
      <Fragment key={i}>{plain}</Fragment>
    );
  });
}

export const plain = (text: string) => text.replaceAll("*", "");
