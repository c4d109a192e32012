/** A status by shape and tone beside its word. */
export const STATUS: Record<string, { mark: string; tone: string }> = {
  active: { mark: '●', tone: '' },
  invited: { mark: '○', tone: 'near' },
  suspended: { mark: '◆', tone: 'over' },
  removed: { mark: '×', tone: 'quiet' },
}
