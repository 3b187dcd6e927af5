/** So many of something: "1 file", "2 files". */
export const counted = (many: number, what: string) =>
  `${many} ${many === 1 ? what : /s$/.test(what) ? `${what}es` : `${what}s`}`;
