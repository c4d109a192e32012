/** Tests of components wait for what they expect, and a busy machine may stand still for longer than a second. */
export {}

if (typeof document !== 'undefined') {
  const { configure } = await import('@testing-library/react')
  configure({ asyncUtilTimeout: 10_000 })
}
