/// <reference types="vite/client" />
declare module '@fontsource-variable/hanken-grotesk'
