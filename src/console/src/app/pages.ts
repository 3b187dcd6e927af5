/** The pages, in the order in which they stand, with words by which they are found. */
export const pages = [
  { to: "/", title: "Services", words: "all, list, what needs attention" },
  { to: "/wrap", title: "Wrap a program", words: "new service, register, rehearse" },
  { to: "/drill", title: "Begin and drill", words: "boot, how all began" },
  { to: "/ahead", title: "Ahead", words: "what is planned, jobs, restarts" },
  { to: "/alerts", title: "Alerts", words: "recipients, messages, who is told" },
  { to: "/report", title: "Report", words: "what happened, availability" },
  { to: "/logbook", title: "Logbook", words: "entries, who did what" },
  { to: "/as-files", title: "As files", words: "definitions, compare, settle, export, take along" },
  { to: "/host", title: "Host", words: "the sentry, accounts, sessions, secrets" },
] as const;
