import { createTheme } from "@mantine/core";

/** Slate ink on paper; colour is kept for what asks for a person. Shades are dark enough for WCAG AA on both schemes' grounds. */
export const theme = createTheme({
  fontFamily: '"Inter Variable", system-ui, sans-serif',
  fontFamilyMonospace: 'ui-monospace, "DejaVu Sans Mono", monospace',
  primaryColor: "slate",
  primaryShade: { light: 7, dark: 6 },
  autoContrast: true,
  respectReducedMotion: true,
  defaultRadius: "md",
  colors: {
    slate: [
      "#f3f6f7",
      "#e4eaed",
      "#cbd6db",
      "#aebec6",
      "#8fa4ae",
      "#6f8894",
      "#556d79",
      "#3d525d",
      "#2c3d46",
      "#1c2930",
    ],
  },
});
