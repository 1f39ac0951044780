import { createTheme, type MantineColorsTuple } from "@mantine/core";

const indigo: MantineColorsTuple = ["#eef0fb", "#d9dcf3", "#b3b9e6", "#8b95d9", "#6a76ce", "#5562c2", "#3f4fa3", "#38468f", "#2e3a78", "#252f62"];

export const theme = createTheme({
  primaryColor: "indigo",
  primaryShade: { light: 6, dark: 3 },
  colors: { indigo },
  defaultRadius: 3,
  respectReducedMotion: true,
  fontFamily: '"Schibsted Grotesk Variable", system-ui, sans-serif',
  fontFamilyMonospace: '"Spline Sans Mono Variable", ui-monospace, monospace',
  fontSizes: { xs: "12px", sm: "13.5px", md: "15px", lg: "18px", xl: "22px" },
});
