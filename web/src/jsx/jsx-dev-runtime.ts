// The same while it is developed, without what only debuggers need.
import { jsx } from './jsx-runtime'

export { Fragment, type JSX } from './jsx-runtime'
export const jsxDEV = (type: Parameters<typeof jsx>[0], props: unknown, key?: string) => jsx(type, props, key)
