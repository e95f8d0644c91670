// The look of the whole interface: colours, type, and the few shared shapes.
// No screen sets colours or spacing of its own.
import { createTheme } from '@mui/material/styles'

const light = {
  paper: '#f4efe4',
  panel: '#fbf9f3',
  sunk: '#ece5d6',
  line: '#d8cfbc',
  thin: '#e9e2d3',
  ink: '#26241f',
  soft: '#615b4e',
  verdi: '#1c675c',
  verdiT: '#dcebe5',
  verdiL: '#9cc7ba',
  ochre: '#8a5800',
  ochreT: '#f6e6c4',
  ochreL: '#d9b467',
  iron: '#9c2f1e',
  ironT: '#f5dcd4',
  ironL: '#dba08f',
  slate: '#3c4856',
  field: '#ffffff',
  ground: '#efe9dc',
  hatch: '#8d836f',
  figure: '#b9b09c',
  onVerdi: '#ffffff',
}
const dark: typeof light = {
  paper: '#1f1c19',
  panel: '#282420',
  sunk: '#34302a',
  line: '#4a443b',
  thin: '#3a352e',
  ink: '#efe8da',
  soft: '#b8ae9c',
  verdi: '#6fbfae',
  verdiT: '#21403a',
  verdiL: '#3f7a6d',
  ochre: '#e3b45c',
  ochreT: '#46371a',
  ochreL: '#7c632d',
  iron: '#ef9480',
  ironT: '#4d2620',
  ironL: '#8a4538',
  slate: '#a9b7c6',
  field: '#1b1815',
  ground: '#2f2a25',
  hatch: '#857b69',
  figure: '#6a6254',
  onVerdi: '#12201d',
}
export type Colours = typeof light
export const colours = { light, dark }

const vars = (c: Colours) => Object.fromEntries(Object.entries(c).map(([k, v]) => [`--${k}`, v]))

export const sans = '"Hanken Grotesk Variable", system-ui, sans-serif'
export const mono = '"IBM Plex Mono", ui-monospace, monospace'

const palette = (c: Colours, mode: 'light' | 'dark') => ({
  mode,
  primary: { main: c.verdi, contrastText: c.onVerdi },
  warning: { main: c.ochre },
  error: { main: c.iron },
  background: { default: c.paper, paper: c.panel },
  text: { primary: c.ink, secondary: c.soft },
  divider: c.line,
})

export const theme = createTheme({
  cssVariables: { colorSchemeSelector: 'data' },
  colorSchemes: { light: { palette: palette(light, 'light') }, dark: { palette: palette(dark, 'dark') } },
  shape: { borderRadius: 1 },
  typography: { fontFamily: sans, fontSize: 13, button: { textTransform: 'none', fontWeight: 600 } },
  transitions: { create: () => 'none' },
  components: {
    MuiButtonBase: {
      defaultProps: { disableRipple: true },
      styleOverrides: {
        root: { '&.Mui-focusVisible': { outline: '2px solid var(--slate)', outlineOffset: 2 } },
      },
    },
    MuiButton: {
      defaultProps: { disableElevation: true, size: 'small', variant: 'outlined' },
      styleOverrides: {
        root: { padding: '3px 12px', minWidth: 0, fontSize: 13, lineHeight: 1.6, whiteSpace: 'nowrap' },
        outlined: {
          borderColor: 'var(--line)',
          color: 'var(--ink)',
          background: 'var(--panel)',
          '&:hover': { borderColor: 'var(--ink)', background: 'var(--sunk)' },
        },
        text: { padding: '0 4px', color: 'var(--verdi)' },
      },
    },
    MuiAutocomplete: {
      styleOverrides: {
        root: {
          '& .MuiAutocomplete-inputRoot.MuiOutlinedInput-root': { padding: '1px 4px', gap: 2 },
          '& .MuiAutocomplete-inputRoot.MuiOutlinedInput-root .MuiAutocomplete-input': {
            padding: '3px 4px',
            minWidth: 60,
          },
        },
        tag: { margin: 1, maxWidth: '100%' },
        option: { fontSize: 13, minHeight: 0, padding: '4px 16px' },
        groupLabel: { fontSize: 12, lineHeight: '28px', background: 'var(--panel)' },
        paper: { border: '1px solid var(--line)' },
      },
    },
    MuiChip: {
      styleOverrides: {
        root: {
          borderRadius: 2,
          height: 22,
          fontSize: 13,
          background: 'var(--verdiT)',
          border: '1px solid var(--line)',
          color: 'var(--ink)',
        },
      },
    },
    MuiOutlinedInput: {
      styleOverrides: {
        root: { background: 'var(--field)', fontSize: 13 },
        input: { padding: '5px 9px', height: 'auto' },
        notchedOutline: { borderColor: 'var(--line)' },
        multiline: { padding: 0 },
      },
    },
    MuiSelect: { defaultProps: { size: 'small', variant: 'outlined' } },
    MuiMenuItem: { styleOverrides: { root: { fontSize: 13, minHeight: 0, padding: '5px 12px' } } },
    MuiCheckbox: {
      defaultProps: { size: 'small' },
      styleOverrides: { root: { padding: 4, color: 'var(--soft)' } },
    },
    MuiFormControlLabel: { styleOverrides: { label: { fontSize: 13 }, root: { marginLeft: -4 } } },
    // A dialog keeps its upper edge when what it shows changes height.
    MuiDialog: {
      defaultProps: { transitionDuration: 0 },
      styleOverrides: {
        scrollPaper: { alignItems: 'flex-start' },
        paper: {
          marginTop: 96,
          maxHeight: 'calc(100% - 128px)',
          border: '1px solid var(--line)',
          backgroundImage: 'none',
          boxShadow: '0 8px 30px rgb(0 0 0 / .25)',
        },
      },
    },
    MuiDialogTitle: { styleOverrides: { root: { fontSize: 15, fontWeight: 650, padding: '14px 20px 6px' } } },
    MuiMenu: {
      defaultProps: { transitionDuration: 0 },
      styleOverrides: {
        paper: {
          border: '1px solid var(--line)',
          backgroundImage: 'none',
          boxShadow: '0 6px 20px rgb(0 0 0 / .18)',
        },
      },
    },
    MuiToggleButton: {
      styleOverrides: {
        root: {
          padding: '3px 11px',
          fontSize: 13,
          fontWeight: 450,
          color: 'var(--ink)',
          background: 'var(--panel)',
          borderColor: 'var(--line)',
          lineHeight: 1.6,
          '&.Mui-selected, &.Mui-selected:hover': { background: 'var(--ink)', color: 'var(--panel)' },
        },
      },
    },
    MuiTableCell: {
      styleOverrides: {
        root: {
          fontSize: 13,
          padding: '5px 10px',
          borderColor: 'var(--thin)',
          verticalAlign: 'top',
          lineHeight: 1.4,
          '&:first-of-type': { paddingLeft: 18 },
          '&:last-of-type': { paddingRight: 18 },
        },
        head: { fontWeight: 550, color: 'var(--soft)', fontSize: 12 },
      },
    },
    MuiTableRow: {
      styleOverrides: { root: { '&.Mui-selected, &.Mui-selected:hover': { background: 'var(--verdiT)' } } },
    },
    MuiDialogActions: { styleOverrides: { root: { padding: '8px 20px 16px' } } },
    MuiTooltip: {
      styleOverrides: { tooltip: { fontSize: 12, background: 'var(--ink)', color: 'var(--panel)' } },
    },
    MuiSlider: {
      styleOverrides: { root: { padding: '10px 0' }, thumb: { width: 10, height: 14, borderRadius: 1 } },
    },
    MuiCssBaseline: {
      styleOverrides: {
        ':root': { ...vars(light), '--mono': mono },
        '[data-dark]': vars(dark),
        'html, body, #root': { height: '100%' },
        body: { fontSize: 14, lineHeight: 1.4, overflow: 'hidden', fontVariantNumeric: 'tabular-nums' },
        ':focus-visible': { outline: '2px solid var(--slate)', outlineOffset: 1 },
        h2: { fontSize: 13, fontWeight: 650, margin: 0 },
        p: { margin: '4px 0' },
        'a:not([class])': { color: 'var(--verdi)' },
        kbd: {
          font: `12px ${mono}`,
          border: '1px solid var(--line)',
          padding: '0 5px',
          background: 'var(--panel)',
          color: 'var(--soft)',
        },
        '.soft': { color: 'var(--soft)' },
        '.small': { fontSize: 12 },
        '.mono': { fontFamily: mono, fontSize: 12.5 },
        '.warn': { color: 'var(--ochre)', fontWeight: 600 },
        '.bad': { color: 'var(--iron)', fontWeight: 600 },
        '.ok': { color: 'var(--verdi)', fontWeight: 600 },
        '.grow': { flex: 1, minWidth: 0 },
        '.clip': { overflow: 'hidden', textOverflow: 'ellipsis', whiteSpace: 'nowrap' },
        '.row': { display: 'flex', gap: 8, alignItems: 'center' },
        '.wrap': { flexWrap: 'wrap' },
        '.between': { justifyContent: 'space-between' },
        '.MuiDialogContent-root h2': { margin: '12px 0 6px' },
        '.fault': {
          margin: '10px 18px',
          padding: '8px 12px',
          border: '1px solid var(--ironL)',
          background: 'var(--ironT)',
          color: 'var(--iron)',
          fontSize: 13,
          overflowWrap: 'anywhere',
        },
      },
    },
  },
})
