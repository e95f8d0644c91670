// Props that are a component's own say how it looks and never reach the page.
const never = ['as', 'theme', 'sx', 'ownerState']

export const own = (...props: string[]) => ({
  shouldForwardProp: (k: PropertyKey) => !never.includes(String(k)) && !props.includes(String(k)),
})
