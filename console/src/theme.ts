import { createTheme } from "@mui/material/styles";
import { type Scheme, TOKENS } from "./tokens";

const palette = (scheme: Scheme) => {
  const t = TOKENS[scheme];
  return {
    primary: { main: t.accent, dark: t["accent-strong"], contrastText: t["on-accent"] },
    background: { default: t.paper, paper: t.sheet },
    text: { primary: t.ink, secondary: t["ink-2"], disabled: t["ink-3"] },
    divider: t.line,
    action: { disabled: t["ink-3"], disabledBackground: t.sunk },
  };
};

const LABEL = { position: "static", transform: "none", maxWidth: "none", fontSize: 13, lineHeight: "18px", color: "var(--ink-2)" } as const;
const FLOATS = { backgroundImage: "none", border: "1px solid var(--line-strong)", boxShadow: "var(--shade)" } as const;

export const theme = createTheme({
  shape: { borderRadius: 3 },
  // A quiet room: colours change at once, also when the scheme does.
  transitions: { create: () => "none" },
  typography: {
    fontFamily: '"Source Sans 3","Shelf Symbols",sans-serif',
    fontSize: 14,
    button: { textTransform: "none", fontWeight: 500 },
    body1: { fontSize: 14, lineHeight: "20px" },
  },
  cssVariables: { colorSchemeSelector: "data-theme" },
  colorSchemes: { light: { palette: palette("light") }, dark: { palette: palette("dark") } },
  components: {
    MuiButtonBase: {
      defaultProps: { disableRipple: true },
      styleOverrides: { root: { "&:focus-visible": { outline: "2px solid var(--accent)", outlineOffset: 2 } } },
    },
    MuiButton: {
      defaultProps: { disableElevation: true, size: "small" },
      styleOverrides: {
        root: {
          height: 30,
          padding: "0 12px",
          fontSize: 13.5,
          whiteSpace: "nowrap",
          "&.Mui-disabled": { color: "var(--ink-3)", background: "var(--sunk)", border: "1px dashed var(--line-strong)" },
        },
        outlined: { borderColor: "var(--line-strong)", background: "var(--sheet)", color: "var(--ink)" },
      },
    },
    MuiSnackbarContent: {
      styleOverrides: {
        root: { ...FLOATS, background: "var(--sheet)", color: "var(--ink)", padding: "4px 12px", maxWidth: 560 },
        action: { gap: 14 },
      },
    },
    MuiChip: { defaultProps: { size: "small" }, styleOverrides: { root: { borderRadius: 3 } } },
    MuiTooltip: { defaultProps: { enterDelay: 300 } },
    MuiTextField: { defaultProps: { size: "small" } },
    MuiFormControl: { styleOverrides: { root: { gap: 3 } } },
    MuiInputLabel: { defaultProps: { shrink: true }, styleOverrides: { root: { ...LABEL, "&.Mui-focused": { color: "var(--ink)" } } } },
    MuiOutlinedInput: {
      defaultProps: { notched: false },
      styleOverrides: {
        root: {
          minHeight: 30,
          fontSize: 13.5,
          lineHeight: "20px",
          background: "var(--sheet)",
          "&.Mui-focused": { outline: "2px solid var(--accent)", outlineOffset: 2 },
          "& .MuiOutlinedInput-notchedOutline, &:hover .MuiOutlinedInput-notchedOutline, &.Mui-focused .MuiOutlinedInput-notchedOutline": {
            borderColor: "var(--line-strong)",
            borderWidth: 1,
          },
          "&.Mui-disabled": { background: "var(--sunk)" },
          "&.MuiInputBase-multiline": { padding: "5px 10px" },
        },
        notchedOutline: { top: 0, "& legend": { display: "none" } },
        input: { height: 20, padding: "4px 10px", outline: 0, "&.MuiInputBase-inputMultiline": { padding: 0 } },
      },
    },
    MuiNativeSelect: {
      styleOverrides: { select: { "&&": { paddingRight: 26, minHeight: 20 } }, icon: { fontSize: 18, color: "var(--ink-2)" } },
    },
    MuiCheckbox: { defaultProps: { size: "small" }, styleOverrides: { root: { padding: 4, color: "var(--line-strong)" } } },
    MuiRadio: { defaultProps: { size: "small" }, styleOverrides: { root: { padding: 4, color: "var(--line-strong)" } } },
    MuiFormControlLabel: {
      styleOverrides: {
        root: { margin: 0, gap: 4, alignItems: "flex-start" },
        label: { fontSize: 13.5, lineHeight: "20px", padding: "4px 0" },
      },
    },
    MuiToggleButton: {
      styleOverrides: {
        root: {
          textTransform: "none",
          border: 0,
          borderRadius: 0,
          padding: "0 10px",
          fontSize: 13,
          lineHeight: "18px",
          color: "var(--ink)",
        },
      },
    },
    MuiDialog: {
      defaultProps: { transitionDuration: 0 },
      styleOverrides: { paper: { ...FLOATS, padding: "18px 20px", color: "var(--ink)" } },
    },
    MuiPopover: { defaultProps: { transitionDuration: 0 }, styleOverrides: { paper: FLOATS } },
    MuiMenu: { defaultProps: { transitionDuration: 0 } },
    MuiMenuItem: {
      styleOverrides: {
        root: { minHeight: 28, padding: "3px 12px", fontSize: 14, "&.Mui-selected": { fontWeight: 600, color: "var(--accent)" } },
      },
    },
    MuiListSubheader: {
      styleOverrides: { root: { fontSize: 12, lineHeight: "24px", padding: "0 12px", background: "var(--sheet)", color: "var(--ink-3)" } },
    },
    MuiAlert: {
      styleOverrides: {
        root: {
          padding: "10px 14px",
          background: "var(--sheet)",
          color: "var(--ink)",
          border: "1px solid var(--line)",
          borderLeft: "4px solid var(--ink)",
        },
        message: { padding: 0 },
      },
    },
    MuiSkeleton: {
      defaultProps: { animation: false, variant: "rectangular" },
      styleOverrides: { root: { background: "var(--tone-0)", outline: "1px solid var(--line)" } },
    },
  },
});
