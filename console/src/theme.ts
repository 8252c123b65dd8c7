import { createTheme } from "@mui/material/styles";

// The tokens of look.css, as the theme of the component library: one source for both colour schemes.
const shared = {
  shape: { borderRadius: 3 },
  // A quiet room: colours change at once, also when the scheme does.
  transitions: { create: () => "none" },
  typography: {
    fontFamily: '"Source Sans 3","Shelf Symbols",sans-serif',
    fontSize: 14,
    button: { textTransform: "none" as const, fontWeight: 500 },
  },
};

export const theme = createTheme({
  ...shared,
  cssVariables: { colorSchemeSelector: "data-theme" },
  colorSchemes: {
    light: {
      palette: {
        primary: { main: "#5C1F4F", dark: "#43133A", contrastText: "#FFFFFF" },
        background: { default: "#F1F1EE", paper: "#FCFCFA" },
        text: { primary: "#23252A", secondary: "#4C4E4C" },
        divider: "#D8D6CF",
      },
    },
    dark: {
      palette: {
        primary: { main: "#CFA7C4", dark: "#E4C9DC", contrastText: "#22141E" },
        background: { default: "#17181A", paper: "#1F2124" },
        text: { primary: "#E9E8E4", secondary: "#C2C1BB" },
        divider: "#393B40",
      },
    },
  },
  components: {
    MuiButtonBase: { defaultProps: { disableRipple: true } },
    MuiButton: { defaultProps: { disableElevation: true, size: "small" }, styleOverrides: { root: { height: 30 } } },
    MuiTooltip: { defaultProps: { enterDelay: 300 } },
  },
});
