/** The inks of the visual language, for canvas and for checks; theme.css gives the same values to the rest. */
export type Ink = "paper" | "ink" | "quiet" | "quietEdge" | "teal" | "vermilion" | "ochre" | "graphite" | "faint" | "accent" | "wash";

export const palettes: Record<"light" | "dark", Record<Ink, string>> = {
  light: {
    paper: "#FAF7F2",
    ink: "#1E2A2F",
    quiet: "#B9CBC7",
    quietEdge: "#7C938F",
    teal: "#1F6F6B",
    vermilion: "#BF3F26",
    ochre: "#A8730F",
    graphite: "#3A4145",
    faint: "#828A87",
    accent: "#3F4FA3",
    wash: "#3F4FA31F",
  },
  dark: {
    paper: "#14191B",
    ink: "#E9E4DA",
    quiet: "#34484A",
    quietEdge: "#6B8482",
    teal: "#4FB0A8",
    vermilion: "#EE6C4D",
    ochre: "#D9A23E",
    graphite: "#B4BDC0",
    faint: "#76807F",
    accent: "#9BA8F2",
    wash: "#9BA8F22E",
  },
};
