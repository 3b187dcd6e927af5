/** The parts of a service's page, each with an address of its own, in the order in which they stand. */
export const sections = {
  overview: "Overview",
  output: "Output",
  screen: "Screen",
  runs: "Runs",
  definition: "Definition",
  change: "Change",
  files: "Files",
  history: "History",
  logbook: "Logbook",
  access: "Access",
} as const;

export type Section = keyof typeof sections;

export const isSection = (name: string): name is Section => name in sections;
