import createClient, { type Middleware } from 'openapi-fetch'
import type { components, paths } from './schema'

export type Schemas = components['schemas']

let csrfToken = ''
let running = ''
let shownAs = sessionStorage.getItem('shown-as') ?? ''

/** See the product as a role has it in an account, from the next page on; nothing ends that. */
export function showAs(account: string | null, role = ''): void {
  shownAs = account === null ? '' : `${account} ${role}`
  if (shownAs) sessionStorage.setItem('shown-as', shownAs)
  else sessionStorage.removeItem('shown-as')
}

/** Carry the session's token with every change, and the branch that is run. */
export function actAs(token: string, account: string): void {
  csrfToken = token
  running = account
}

/** A refusal or a failure, with what the server said. */
export class ApiError extends Error {
  readonly status: number
  readonly body: Partial<Schemas['ProblemBody']> & Record<string, unknown>
  readonly asked: string
  constructor(status: number, body: unknown, asked: string) {
    const problem = (typeof body === 'object' && body !== null ? body : {}) as ApiError['body']
    super(problem.detail ?? (status ? `The server answered ${status}.` : 'The server does not answer.'))
    this.status = status
    this.body = problem
    this.asked = asked
  }
}

/** What to say of something that failed. */
export function messageOf(error: unknown): string {
  return error instanceof Error ? error.message : 'Something went wrong. Try again, or tell your administrator.'
}

/** A key for one change: 128 random bits. */
function newKey(): string {
  return [...crypto.getRandomValues(new Uint8Array(16))].map((each) => each.toString(16).padStart(2, '0')).join('')
}

const AGAIN_AFTER = 1000

/** Sent once more where no answer came: with the same key a change that was done all the same is not done twice. */
async function sendTwice(request: Request): Promise<Response> {
  const copy = request.clone()
  try {
    return await fetch(request)
  } catch (error) {
    if (request.signal.aborted) throw error
    await new Promise((done) => setTimeout(done, AGAIN_AFTER))
    return fetch(copy)
  }
}

const carry: Middleware = {
  onRequest({ request }) {
    if (running) request.headers.set('X-Running', running)
    if (shownAs) request.headers.set('X-Shown-As', shownAs)
    if (request.method !== 'GET') {
      if (csrfToken) request.headers.set('X-CSRF-Token', csrfToken)
      // A change happens once for its key, however often it has to be sent.
      if (!request.headers.has('Idempotency-Key')) request.headers.set('Idempotency-Key', newKey())
    }
    return request
  },
  onError({ request }) {
    return new ApiError(
      0,
      { detail: 'The server does not answer. Is it running? Try again in a moment.' },
      new URL(request.url).pathname,
    )
  },
}

export const api = createClient<paths>({ baseUrl: '/', fetch: sendTwice })
api.use(carry)

/** The data of an answer; an ApiError is thrown for everything else. */
export async function take<T>(answer: Promise<{ data?: T; error?: unknown; response: Response }>): Promise<T> {
  const { data, error, response } = await answer
  if (!response.ok) throw new ApiError(response.status, error, new URL(response.url).pathname)
  return data as T
}

/** The address of a file to keep; it carries the branch that is run. */
export function fileAddress(path: string, params: Record<string, string | string[] | undefined>): string {
  const query = new URLSearchParams({ ...(running && { running }), ...(shownAs && { shown_as: shownAs }) })
  for (const [name, value] of Object.entries(params))
    for (const each of Array.isArray(value) ? value : value === undefined ? [] : [value]) query.append(name, each)
  return `${path}?${query.toString()}`
}
