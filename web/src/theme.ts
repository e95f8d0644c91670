// The look of the whole interface: colours, type, and the few shared shapes.
// No screen sets colours or spacing of its own.
import { createTheme } from '@mui/material/styles'

const light = {
  paper: '#f4efe4', panel: '#fbf9f3', sunk: '#ece5d6', line: '#d8cfbc', thin: '#e9e2d3', ink: '#26241f', soft: '#615b4e',
  verdi: '#1c675c', verdiT: '#dcebe5', verdiL: '#9cc7ba', ochre: '#8a5800', ochreT: '#f6e6c4', ochreL: '#d9b467',
  iron: '#9c2f1e', ironT: '#f5dcd4', ironL: '#dba08f', slate: '#3c4856', field: '#ffffff', ground: '#efe9dc', hatch: '#8d836f', figure: '#b9b09c', onVerdi: '#ffffff',
}
const dark: typeof light = {
  paper: '#1f1c19', panel: '#282420', sunk: '#34302a', line: '#4a443b', thin: '#3a352e', ink: '#efe8da', soft: '#b8ae9c',
  verdi: '#6fbfae', verdiT: '#21403a', verdiL: '#3f7a6d', ochre: '#e3b45c', ochreT: '#46371a', ochreL: '#7c632d',
  iron: '#ef9480', ironT: '#4d2620', ironL: '#8a4538', slate: '#a9b7c6', field: '#1b1815', ground: '#2f2a25', hatch: '#857b69', figure: '#6a6254', onVerdi: '#12201d',
}
export type Colours = typeof light
export const colours = { light, dark }

const vars = (c: Colours) => Object.fromEntries(Object.entries(c).map(([k, v]) => [`--${k}`, v]))

export const sans = '"Hanken Grotesk Variable", system-ui, sans-serif'
export const mono = '"IBM Plex Mono", ui-monospace, monospace'

const palette = (c: Colours, mode: 'light' | 'dark') => ({
  mode,
  primary: { main: c.verdi, contrastText: c.onVerdi },
  warning: { main: c.ochre }, error: { main: c.iron },
  background: { default: c.paper, paper: c.panel },
  text: { primary: c.ink, secondary: c.soft }, divider: c.line,
})

export const theme = createTheme({
  cssVariables: { colorSchemeSelector: 'data' },
  colorSchemes: { light: { palette: palette(light, 'light') }, dark: { palette: palette(dark, 'dark') } },
  shape: { borderRadius: 1 },
  typography: { fontFamily: sans, fontSize: 13, button: { textTransform: 'none', fontWeight: 600 } },
  transitions: { create: () => 'none' },
  components: {
    MuiButtonBase: { defaultProps: { disableRipple: true }, styleOverrides: { root: { '&.Mui-focusVisible': { outline: '2px solid var(--slate)', outlineOffset: 2 } } } },
    MuiButton: {
      defaultProps: { disableElevation: true, size: 'small', variant: 'outlined' },
      styleOverrides: {
        root: { padding: '3px 12px', minWidth: 0, fontSize: 13, lineHeight: 1.6, whiteSpace: 'nowrap' },
        outlined: { borderColor: 'var(--line)', color: 'var(--ink)', background: 'var(--panel)', '&:hover': { borderColor: 'var(--ink)', background: 'var(--sunk)' } },
        text: { padding: '0 4px', color: 'var(--verdi)' },
      },
    },
    MuiOutlinedInput: { styleOverrides: { root: { background: 'var(--field)', fontSize: 13 }, input: { padding: '5px 9px', height: 'auto' }, notchedOutline: { borderColor: 'var(--line)' }, multiline: { padding: 0 } } },
    MuiSelect: { defaultProps: { size: 'small', variant: 'outlined' } },
    MuiMenuItem: { styleOverrides: { root: { fontSize: 13, minHeight: 0, padding: '5px 12px' } } },
    MuiCheckbox: { defaultProps: { size: 'small' }, styleOverrides: { root: { padding: 4, color: 'var(--soft)' } } },
    MuiFormControlLabel: { styleOverrides: { label: { fontSize: 13 }, root: { marginLeft: -4 } } },
    // A dialog keeps its upper edge when what it shows changes height.
    MuiDialog: { defaultProps: { transitionDuration: 0 }, styleOverrides: { scrollPaper: { alignItems: 'flex-start' }, paper: { marginTop: 96, maxHeight: 'calc(100% - 128px)', border: '1px solid var(--line)', backgroundImage: 'none', boxShadow: '0 8px 30px rgb(0 0 0 / .25)' } } },
    MuiDialogTitle: { styleOverrides: { root: { fontSize: 15, fontWeight: 650, padding: '14px 20px 6px' } } },
    MuiMenu: { defaultProps: { transitionDuration: 0 }, styleOverrides: { paper: { border: '1px solid var(--line)', backgroundImage: 'none', boxShadow: '0 6px 20px rgb(0 0 0 / .18)' } } },
    MuiToggleButton: {
      styleOverrides: { root: { padding: '3px 11px', fontSize: 13, fontWeight: 450, color: 'var(--ink)', background: 'var(--panel)', borderColor: 'var(--line)', lineHeight: 1.6,
        '&.Mui-selected, &.Mui-selected:hover': { background: 'var(--ink)', color: 'var(--panel)' } } },
    },
    MuiTooltip: { styleOverrides: { tooltip: { fontSize: 12, background: 'var(--ink)', color: 'var(--panel)' } } },
    MuiSlider: { styleOverrides: { root: { padding: '10px 0' }, thumb: { width: 10, height: 14, borderRadius: 1 } } },
    MuiCssBaseline: {
      styleOverrides: {
        ':root': vars(light),
        '[data-dark]': vars(dark),
        'html, body, #root': { height: '100%' },
        body: { fontSize: 14, lineHeight: 1.4, overflow: 'hidden', fontVariantNumeric: 'tabular-nums' },
        ':focus-visible': { outline: '2px solid var(--slate)', outlineOffset: 1 },
        'h2': { fontSize: 13, fontWeight: 650, margin: 0 },
        'p': { margin: '4px 0' }, 'a:not([class])': { color: 'var(--verdi)' },
        'kbd': { font: `12px ${mono}`, border: '1px solid var(--line)', padding: '0 5px', background: 'var(--panel)', color: 'var(--soft)' },
        '.soft': { color: 'var(--soft)' }, '.small': { fontSize: 12 }, '.mono': { fontFamily: mono, fontSize: 12.5 },
        '.warn': { color: 'var(--ochre)', fontWeight: 600 }, '.bad': { color: 'var(--iron)', fontWeight: 600 }, '.ok': { color: 'var(--verdi)', fontWeight: 600 },
        '.grow': { flex: 1, minWidth: 0 }, '.clip': { overflow: 'hidden', textOverflow: 'ellipsis', whiteSpace: 'nowrap' },
        '.row': { display: 'flex', gap: 8, alignItems: 'center' }, '.wrap': { flexWrap: 'wrap' }, '.between': { justifyContent: 'space-between' },
        // the shell
        '.shell': { display: 'grid', gridTemplateRows: '64px minmax(0,1fr) 28px', height: '100%' },
        '.bar': { display: 'flex', borderBottom: '1px solid var(--line)', background: 'var(--panel)' },
        '.project': { width: 232, padding: '13px 20px', borderRight: '1px solid var(--line)', flex: 'none', '& b': { display: 'block', fontSize: 15 }, '& span': { fontSize: 12, color: 'var(--soft)' } },
        '.stages': { flex: 1, display: 'flex', minWidth: 0 },
        '.stage': { flex: 1, minWidth: 0, padding: '7px 16px 0', borderLeft: '1px solid var(--line)', position: 'relative', color: 'var(--soft)', textDecoration: 'none', fontSize: 12,
          '& b': { color: 'var(--ink)', fontWeight: 600, fontSize: 14, display: 'block' }, '& small': { fontSize: 12, display: 'block' },
          '&:first-of-type': { borderLeft: 0 }, '&::after': { content: '""', position: 'absolute', left: 0, right: 0, bottom: 0, background: 'var(--sunk)', height: 'var(--depth)' },
          '&.on': { background: 'var(--verdiT)' }, '&.on::after': { background: 'var(--verdi)' }, '&.on b': { color: 'var(--verdi)' }, '&:focus-visible': { outlineOffset: -2 } },
        '.search': { width: 200, flex: 'none', padding: '15px 16px', borderLeft: '1px solid var(--line)',
          '& button': { width: '100%', border: '1px solid var(--line)', background: 'var(--paper)', padding: '5px 10px', color: 'var(--soft)', font: 'inherit', fontSize: 13, display: 'flex', justifyContent: 'space-between', cursor: 'pointer' } },
        '.foot': { borderTop: '1px solid var(--line)', background: 'var(--panel)', fontSize: 12, color: 'var(--soft)', display: 'flex', gap: 22, alignItems: 'center', padding: '0 20px', minWidth: 0, whiteSpace: 'nowrap', overflow: 'hidden' },
        '.meter': { width: 150, height: 6, background: 'var(--sunk)', display: 'inline-block', verticalAlign: 1, margin: '0 8px', '& i': { display: 'block', height: 6, background: 'var(--verdi)' } },
        // panes
        '.cols': { display: 'grid', height: '100%', minHeight: 0, '& > *': { minHeight: 0 } },
        '.cols-sources': { gridTemplateColumns: '268px minmax(0,1fr) 320px' }, '.cols-finds': { gridTemplateColumns: '268px minmax(0,1fr) 320px' },
        '.cols-chain': { gridTemplateColumns: '316px minmax(0,1fr) 300px' }, '.cols-rehearsal': { gridTemplateColumns: '250px minmax(0,1fr) 372px' }, '.cols-delivery': { gridTemplateColumns: '316px minmax(0,1fr)' },
        '.pane': { background: 'var(--panel)', overflow: 'auto', borderRight: '1px solid var(--line)', '&.r': { borderRight: 0, borderLeft: '1px solid var(--line)' }, '&.flat': { borderRight: 0 } },
        '.column': { display: 'flex', flexDirection: 'column', minHeight: 0 },
        '.head': { padding: '12px 18px 10px', display: 'flex', justifyContent: 'space-between', alignItems: 'baseline', gap: 8, borderBottom: '1px solid var(--line)', '&.bare': { borderBottom: 0, paddingBottom: 4 }, '&.top': { borderTop: '1px solid var(--line)' } },
        '.body': { padding: '4px 18px 12px', fontSize: 13 },
        '.body.acts': { paddingTop: 12 },
        '.drop': { margin: 14, border: '1.5px dashed var(--hatch)', padding: '14px 13px', color: 'var(--soft)', fontSize: 13, textAlign: 'center', '.dropping &': { borderColor: 'var(--verdi)', background: 'var(--verdiT)' } },
        '.tools': { padding: '10px 18px', borderBottom: '1px solid var(--line)', display: 'flex', gap: 8, alignItems: 'center', flexWrap: 'wrap' },
        '.tools.low': { padding: '5px 18px', minHeight: 32 }, '.tools.low .MuiToggleButton-root': { padding: '1px 8px' }, '.tools.flush, .form.flush': { paddingLeft: 0, paddingRight: 0 }, '.form.flush': { borderBottom: 0 }, '.row.low': { alignItems: 'flex-end' }, '.row.ask': { paddingTop: 6 }, '.MuiDialogContent-root h2': { margin: '12px 0 6px' }, 'td.wide': { whiteSpace: 'nowrap' },
        '.link': { font: 'inherit', border: 0, background: 'none', padding: 0, color: 'var(--verdi)', fontWeight: 600, cursor: 'pointer', textAlign: 'left', textDecoration: 'none', overflowWrap: 'anywhere', '&:hover': { textDecoration: 'underline' } },
        '.extract': { borderTop: '1px solid var(--line)', padding: '10px 18px', '& .small': { marginTop: 6 }, '& .fault': { margin: '0 0 8px' } },
        '.rows': { maxHeight: 360, overflow: 'auto', borderTop: '1px solid var(--thin)' }, '.tabs': { padding: '10px 0 0' }, '.item.top': { borderTop: '1px solid var(--thin)' },
        '.names td': { padding: '4px 6px' }, '.names td:first-of-type': { paddingLeft: 18 }, '.names td:last-of-type': { paddingRight: 18 }, '.forms td, .forms td:first-of-type, .forms td:last-of-type': { padding: '3px 6px 3px 0', border: 0 },
        // tags
        '.tag': { fontSize: 11.5, border: '1px solid var(--line)', padding: '0 6px', color: 'var(--soft)', background: 'var(--paper)', whiteSpace: 'nowrap', display: 'inline-block', lineHeight: '18px',
          '&.w': { borderColor: 'var(--ochreL)', background: 'var(--ochreT)', color: 'var(--ochre)' }, '&.b': { borderColor: 'var(--ironL)', background: 'var(--ironT)', color: 'var(--iron)' }, '&.g': { borderColor: 'var(--verdiL)', background: 'var(--verdiT)', color: 'var(--verdi)' } },
        'button.tag': { cursor: 'pointer', font: 'inherit', fontSize: 11.5, lineHeight: '18px' },
        // slabs: the search order
        '.slab': { margin: '0 14px -1px', border: '1px solid var(--line)', padding: '9px 12px', background: 'var(--panel)', position: 'relative', cursor: 'pointer', display: 'block', width: 'calc(100% - 28px)', textAlign: 'left', font: 'inherit', color: 'inherit',
          '& b': { fontWeight: 600, display: 'block', paddingRight: 20 }, '& small': { display: 'block', color: 'var(--soft)', fontSize: 12 }, '&.on': { background: 'var(--verdiT)', boxShadow: 'inset 4px 0 var(--verdi)' },
          '& .no': { position: 'absolute', right: 12, top: 10, font: `12px ${mono}`, color: 'var(--soft)' }, '& .acts': { position: 'absolute', right: 6, bottom: 5, display: 'none' }, '&:hover .acts, &:focus-within .acts, &.on .acts': { display: 'flex' } },
        '.mini': { border: '1px solid var(--line)', background: 'var(--panel)', font: 'inherit', fontSize: 12, color: 'var(--ink)', padding: '0 6px', cursor: 'pointer', lineHeight: '20px', '&:disabled': { opacity: 0.4, cursor: 'default' }, '&:hover:enabled': { borderColor: 'var(--ink)' } },
        '.slab.within': { marginLeft: 28, width: 'calc(100% - 42px)' },
        // tables
        'table': { borderCollapse: 'collapse', width: '100%', fontSize: 13 }, 'th': { fontWeight: 550, color: 'var(--soft)', textAlign: 'left', fontSize: 12 },
        'td, th': { padding: '5px 10px', borderBottom: '1px solid var(--thin)', verticalAlign: 'top' }, 'td.n, th.n': { textAlign: 'right', whiteSpace: 'nowrap' }, 'td:first-of-type, th:first-of-type': { paddingLeft: 18 }, 'td:last-of-type, th:last-of-type': { paddingRight: 18 },
        '.grid': { display: 'grid', gridTemplateColumns: 'minmax(0,1fr) 132px 54px 46px 46px 70px', fontSize: 13, columnGap: 10, padding: '0 18px', alignItems: 'center', lineHeight: '28px', userSelect: 'none' },
        '.grid.th': { color: 'var(--soft)', fontSize: 12, fontWeight: 550, borderBottom: '1px solid var(--line)', '& button': { font: 'inherit', color: 'inherit', border: 0, background: 'none', padding: 0, cursor: 'pointer', textAlign: 'inherit' } },
        '.grid .n': { textAlign: 'right' },
        '.line.here': { boxShadow: 'inset 4px 0 var(--verdi)' },
        '.line': { borderBottom: '1px solid var(--thin)', cursor: 'pointer', '&.on': { background: 'var(--verdiT)' }, '&:hover:not(.on)': { background: 'var(--paper)' } },
        '.scroll': { overflow: 'auto', flex: 1, minHeight: 0, position: 'relative' },
        '.facts': { display: 'grid', gridTemplateColumns: '104px minmax(0,1fr)', fontSize: 13, gap: '5px 10px', padding: '8px 18px', '& > span': { color: 'var(--soft)' } },
        '.item': { padding: '8px 18px', borderBottom: '1px solid var(--thin)', fontSize: 13, '& small': { display: 'block', color: 'var(--soft)', fontSize: 12, overflowWrap: 'anywhere' } },
        '.code': { margin: 0, padding: '10px 18px', font: `12px/1.55 ${mono}`, overflow: 'auto', whiteSpace: 'pre-wrap', overflowWrap: 'anywhere' },
        '.empty': { padding: '28px 24px', color: 'var(--soft)', fontSize: 14, maxWidth: 520, '& b': { color: 'var(--ink)', display: 'block', fontSize: 15, marginBottom: 4 } },
        '.fault': { margin: '10px 18px', padding: '8px 12px', border: '1px solid var(--ironL)', background: 'var(--ironT)', color: 'var(--iron)', fontSize: 13, overflowWrap: 'anywhere' },
        '.notice': { margin: '10px 18px', padding: '8px 12px', border: '1px solid var(--ochreL)', background: 'var(--ochreT)', color: 'var(--ochre)', fontSize: 13 },
        // the byte workbench
        '.bench': { display: 'grid', gridTemplateRows: 'auto auto minmax(0,1fr)', height: '100%' },
        '.card.fixed': { position: 'absolute', top: 0, left: 0, right: 0, height: 90, overflow: 'hidden' }, '.form.narrow': { paddingTop: 10, paddingBottom: 10, '& .pair': { marginTop: 6, gap: 6 } },
        '.cols-layout': { gridTemplateColumns: 'minmax(300px, 5fr) minmax(260px, 4fr) 588px', gridRow: 3 },
        '.editor': { flex: 1, minHeight: 0, overflow: 'hidden' }, '.fault.low': { margin: 0, borderWidth: '1px 0 0', maxHeight: 120, overflow: 'auto' },
        '.tree': { flex: 1, minHeight: 0, overflow: 'auto', padding: '6px 0' },
        '.leaf': { display: 'grid', gridTemplateColumns: 'minmax(84px, 5fr) minmax(42px, 3fr) minmax(44px, 4fr) 46px 42px', gap: 6, alignItems: 'baseline', font: `12px/21px ${mono}`, paddingRight: 10, cursor: 'default', '& > *': { overflow: 'hidden', textOverflow: 'ellipsis', whiteSpace: 'nowrap' }, '& > .n': { textAlign: 'right' }, '& b': { fontWeight: 600 }, '&:hover': { background: 'var(--sunk)' } },
        '.leaf.on': { background: 'var(--verdiT)' }, '.leaf.is-bad': { background: 'var(--ironT)' }, '.leaf.th': { color: 'var(--soft)', borderBottom: '1px solid var(--line)', fontFamily: sans, '&:hover': { background: 'none' } }, '.leaf.small': { display: 'block', whiteSpace: 'normal' },
        '.leaf.wide': { gridTemplateColumns: 'minmax(0, 3fr) 80px 80px minmax(0, 1fr)', width: '100%', border: 0, background: 'none', color: 'inherit', textAlign: 'left', padding: '0 18px' },
        '.fold': { display: 'inline-block', border: 0, background: 'none', color: 'var(--soft)', padding: 0, width: 16, font: 'inherit', cursor: 'pointer' },
        '.stripband.thin': { height: 12, marginTop: 10, background: 'var(--verdiL)', '& > .gap': { position: 'absolute', top: 0, bottom: 0, border: 0, padding: 0, cursor: 'pointer', background: 'repeating-linear-gradient(135deg, var(--panel) 0 3px, var(--hatch) 3px 4px)' } },
        '.sheet': { overflow: 'auto', borderTop: '1px solid var(--line)', flex: 1, minHeight: 160, '& table': { borderCollapse: 'collapse', font: `12px/20px ${mono}`, whiteSpace: 'nowrap' }, '& th': { textAlign: 'left', fontWeight: 600, padding: '4px 12px', background: 'var(--sunk)', position: 'sticky', top: 0, '& small': { color: 'var(--soft)', marginLeft: 6, fontWeight: 400 } }, '& td': { padding: '1px 12px', borderBottom: '1px solid var(--thin)', maxWidth: 300, overflow: 'hidden', textOverflow: 'ellipsis', verticalAlign: 'top' }, '& thead td': { fontFamily: sans, whiteSpace: 'normal' }, '& tbody tr:hover': { background: 'var(--verdiT)' } },
        '.pair': { display: 'grid', gridTemplateColumns: '1fr 1fr', gap: 10 }, '.trialview': { position: 'relative', minWidth: 0, display: 'flex', flexDirection: 'column', '& .view': { flex: 1 } }, '.hexrow .dim': { color: 'var(--soft)', background: 'repeating-linear-gradient(135deg, transparent 0 4px, var(--thin) 4px 5px)' }, '.scroll.list': { gridRow: 3, maxWidth: 900 },
        '.cols-bytes': { gridTemplateColumns: '592px minmax(0,1fr)', gridRow: 3 },
        '.stripe': { padding: '10px 18px 8px', borderBottom: '1px solid var(--line)', background: 'var(--panel)', '& > .row': { marginTop: 8, gap: 14 } },
        '.stripband': { display: 'flex', height: 34, border: '1px solid var(--ink)', position: 'relative', '& > i': { position: 'absolute', top: -4, bottom: -4, width: 2, background: 'var(--verdi)', pointerEvents: 'none' } },
        'button.look': { border: 0, padding: 0, minWidth: 1, cursor: 'pointer', borderRight: '1px solid var(--panel)' }, '.look.key': { width: 22, height: 11, border: '1px solid var(--line)', display: 'inline-block' },
        '.look.is-table': { background: 'repeating-linear-gradient(90deg,var(--verdiL) 0 2px,var(--verdiT) 2px 6px)' },
        '.look.is-numbers': { background: 'repeating-linear-gradient(0deg,var(--verdiL) 0 2px,var(--verdiT) 2px 6px)' },
        '.look.is-indices': { background: 'repeating-linear-gradient(45deg,var(--ochreL) 0 1.5px,var(--ochreT) 1.5px 6px)' },
        '.look.is-picture': { background: 'repeating-linear-gradient(90deg,var(--ochreL) 0 4px,var(--ochreT) 4px 7px)' },
        '.look.is-packed': { background: 'radial-gradient(circle,var(--hatch) 1.1px,var(--sunk) 1.3px) 0 0/5px 5px' },
        '.look.is-text': { background: 'repeating-linear-gradient(0deg,var(--hatch) 0 1px,var(--paper) 1px 4px)' },
        '.look.is-zeros': { background: 'var(--field)' }, '.look.is-other': { background: 'var(--sunk)' },
        '.hexview': { font: `12.5px/22px ${mono}`, padding: '8px 18px', flex: 1, minHeight: 0, overflow: 'hidden', userSelect: 'none', cursor: 'default', position: 'relative', '&:focus-visible': { outlineOffset: -2 } },
        '.hexrow': { display: 'flex', whiteSpace: 'pre', '& .b': { padding: '0 3px', '&.mid': { marginLeft: 8 }, '&.on': { background: 'var(--verdi)', color: 'var(--onVerdi)' } }, '& > .soft': { marginRight: 10 }, '& .t': { marginLeft: 10, color: 'var(--soft)' } },
        '.scroller': { position: 'absolute', right: -250, top: '50%', width: 520, transform: 'rotate(90deg)', accentColor: 'var(--verdi)' },
        '.values': { borderTop: '1px solid var(--line)', padding: '8px 18px 10px' }, '.valuegrid': { display: 'grid', gridTemplateColumns: 'repeat(4, minmax(0,1fr))', gap: '2px 12px', font: `12px/19px ${mono}`, marginTop: 4, '& > span': { overflow: 'hidden', textOverflow: 'ellipsis', whiteSpace: 'nowrap' } },
        '.trial': { display: 'grid', gridTemplateColumns: 'minmax(0,1fr) 250px', flex: 1, minHeight: 0, '& > .form': { borderLeft: '1px solid var(--line)', borderBottom: 0, overflow: 'auto' } },
        '.trialpicture': { background: 'repeating-conic-gradient(var(--sunk) 0 25%, var(--paper) 0 50%) 0 0 / 16px 16px', overflow: 'auto', display: 'grid', placeItems: 'center', padding: 12, '& img': { imageRendering: 'pixelated', border: '1px solid var(--line)' } },
        // pictures
        '.picture': { background: 'repeating-conic-gradient(var(--sunk) 0 25%, var(--paper) 0 50%) 0 0 / 16px 16px', borderBottom: '1px solid var(--line)', display: 'grid', placeItems: 'center', minHeight: 200, maxHeight: 300, overflow: 'auto', '& img': { maxWidth: '100%', imageRendering: 'pixelated' } },
        '.picture.zoom': { position: 'relative', height: 268, maxHeight: 'none', overflow: 'hidden', cursor: 'crosshair', touchAction: 'none' },
        '.code.short': { maxHeight: 280 }, '.code.hex': { whiteSpace: 'pre', fontSize: 10.5, overflowX: 'auto' },
        '.thumb': { width: 64, height: 64, display: 'block', objectFit: 'cover' },
        // the 3D view
        '.view': { position: 'relative', background: 'var(--ground)', minHeight: 0, overflow: 'hidden', '& canvas': { position: 'absolute', inset: 0, display: 'block', width: '100%', height: '100%', outline: 'none' },
          '& canvas:focus-visible': { boxShadow: 'inset 0 0 0 2px var(--slate)' } },
        '.view.small': { height: 268, borderBottom: '1px solid var(--line)' }, '.view.mid': { height: 400, borderBottom: '1px solid var(--line)' },
        '.caption': { position: 'absolute', top: 12, fontSize: 13, pointerEvents: 'none', '& b': { fontWeight: 650 }, '& span': { color: 'var(--soft)', display: 'block', fontSize: 12 } },
        '.axes': { position: 'absolute', top: 12, fontSize: 12, color: 'var(--soft)', textAlign: 'right', pointerEvents: 'none' },
        '.scale': { position: 'absolute', bottom: 16, font: `11px ${mono}`, color: 'var(--soft)', pointerEvents: 'none', '& i': { display: 'flex', height: 7, border: '1px solid var(--ink)', marginBottom: 3 }, '& i b': { flex: 1 }, '& i b:nth-of-type(odd)': { background: 'var(--ink)' }, '& span': { display: 'flex', justifyContent: 'space-between' } },
        '.viewtools': { position: 'absolute', left: 0, right: 0, top: 62, display: 'flex', justifyContent: 'center', pointerEvents: 'none', '& > *': { pointerEvents: 'auto' } },
        '.motion': { position: 'absolute', right: 16, bottom: 14, width: 320, display: 'flex', gap: 10, alignItems: 'center', fontSize: 12, color: 'var(--soft)', background: 'var(--panel)', border: '1px solid var(--line)', padding: '2px 10px' },
        '.split': { position: 'absolute', top: 0, bottom: 0, left: '50%', width: 2, marginLeft: -1, background: 'var(--ink)', pointerEvents: 'none' },
        '.veil': { position: 'absolute', inset: 0, display: 'grid', placeItems: 'center', color: 'var(--soft)', fontSize: 13, pointerEvents: 'none', textAlign: 'center', padding: 20 },
        // the core sample
        '.core': { padding: '14px 14px 10px', display: 'flex', flexDirection: 'column', overflow: 'auto', flex: 1, minHeight: 0 },
        '.band': { display: 'flex', border: '1px solid var(--line)', borderBottom: 0, background: 'var(--panel)', height: 78, flex: 'none', position: 'relative', cursor: 'pointer', width: '100%', textAlign: 'left', font: 'inherit', color: 'inherit', padding: 0,
          '&:last-of-type': { borderBottom: '1px solid var(--line)' }, '& .t': { width: 70, flex: 'none', display: 'grid', placeItems: 'center', background: 'var(--ground)', borderRight: '1px solid var(--thin)' }, '& .w': { padding: '7px 11px', minWidth: 0, flex: 1 }, '& .w b': { fontWeight: 600, display: 'block' }, '& small': { color: 'var(--soft)', fontSize: 12, display: 'block' },
          '&.on': { background: 'var(--verdiT)', outline: '2px solid var(--verdi)', outlineOffset: -1, zIndex: 2 }, '&.cmp': { outline: '2px dashed var(--slate)', outlineOffset: -1, zIndex: 2 },
          '& .k': { position: 'absolute', right: 8, top: 7, font: `600 11px ${mono}`, color: 'var(--verdi)' }, '&.cmp .k': { color: 'var(--slate)' }, '&.off .w b': { textDecoration: 'line-through', color: 'var(--soft)' }, '&.off .t': { opacity: 0.4 } },
        '.hatch': { width: 16, flex: 'none', alignSelf: 'stretch', borderRight: '1px solid var(--line)' },
        '.hatch.raw': { background: 'var(--sunk)' },
        '.hatch.geometry': { background: 'radial-gradient(circle,var(--hatch) 1.1px,transparent 1.3px) 0 0/6px 6px' },
        '.hatch.basis': { background: 'repeating-linear-gradient(45deg,var(--hatch) 0 1px,transparent 1px 5px)' },
        '.hatch.material': { background: 'repeating-linear-gradient(45deg,var(--hatch) 0 1px,transparent 1px 6px),repeating-linear-gradient(-45deg,var(--hatch) 0 1px,transparent 1px 6px)' },
        '.hatch.rig': { background: 'repeating-linear-gradient(0deg,transparent 0 3px,var(--hatch) 3px 4px,transparent 4px 8px)' },
        '.hatch.clean': { background: 'repeating-linear-gradient(90deg,var(--hatch) 0 1px,transparent 1px 4px)' },
        // findings
        '.finding': { display: 'flex', gap: 12, padding: '11px 18px', borderBottom: '1px solid var(--thin)', alignItems: 'flex-start', background: 'var(--panel)', '& .tg': { width: 56, flex: 'none', paddingTop: 1 }, '& b': { fontWeight: 600 }, '& small': { display: 'block', color: 'var(--soft)', fontSize: 12.5, overflowWrap: 'anywhere' }, '& p': { margin: '4px 0 0', fontSize: 13, color: 'var(--soft)' } },
        // forms
        '.form': { padding: '6px 18px 14px', borderBottom: '1px solid var(--line)', '& label.f': { display: 'block', fontSize: 12, color: 'var(--soft)', marginTop: 8 }, '& .help': { fontSize: 12, color: 'var(--soft)' } },
        '.unit': { color: 'var(--soft)', fontSize: 13 },
        '.card': { display: 'flex', gap: 10, padding: '9px 14px', borderBottom: '1px solid var(--thin)', cursor: 'pointer', width: '100%', textAlign: 'left', font: 'inherit', color: 'inherit', background: 'none', border: 0, borderBottomStyle: 'solid', borderBottomWidth: 1, borderBottomColor: 'var(--thin)', '&.on': { background: 'var(--verdiT)', boxShadow: 'inset 4px 0 var(--verdi)' }, '& b': { fontWeight: 600, display: 'block' }, '& small': { display: 'block', fontSize: 12, color: 'var(--soft)' } },
      },
    },
  },
})
