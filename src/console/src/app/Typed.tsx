import { Fragment } from "react";

/** Words that may be typed as they stand: a line ends between two of them, never at a hyphen within one. */
export const Typed = ({ words }: { words: readonly string[] }) =>
  words.map((word, at) => (
    // biome-ignore lint/suspicious/noArrayIndexKey: the same word may stand twice, and none of them moves
    <Fragment key={at}>
      {at > 0 && " "}
      <span className="typed">{word}</span>
    </Fragment>
  ));
