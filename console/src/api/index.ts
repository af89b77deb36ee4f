import createClient from 'openapi-fetch'
import { ref } from 'vue'

import { visible } from '../visible'
import type { components, paths } from './schema'

type Schemas = components['schemas']
export type LaneStatus = Schemas['LaneStatus']
export type EnvironmentStatus = Schemas['EnvironmentStatus']
export type StepStatus = Schemas['StepStatus']
export type Trouble = Schemas['Trouble']
export type Check = Schemas['Check']
export type Deployment = Schemas['Deployment']
export type DeployEvent = Schemas['Event']
export type Failure = Schemas['Failure']
export type Preview = Schemas['Preview']
export type Ledger = Schemas['Ledger']
export type StepTexts = Schemas['StepTexts']
export type Evidence = Schemas['Evidence']
export type TextDifference = Schemas['TextDifference']
export type Difference = Schemas['Difference']
export type SchemaMap = Schemas['SchemaMap']
export type MapTable = Schemas['MapTable']
export type Drift = Schemas['Drift']
export type StepEffect = Schemas['StepEffect']
export type KnownSchema = Schemas['KnownSchema']
export type Verification = Schemas['Verification']
export type Remedy = Schemas['Remedy']
export type Release = Schemas['Release']
export type Session = Schemas['Session']
export type WaysIn = Schemas['WaysIn']
export type Person = Schemas['Person']
export type Token = Schemas['Token']
export type AuditEntry = Schemas['AuditEntry']
export type Problem = Schemas['Problem']
export type Rehearsed = Schemas['Rehearsed']
export type FleetDeployment = Schemas['FleetDeployment']
export type FleetTarget = Schemas['FleetTarget']
export type FleetStatus = Schemas['FleetStatus']
export type FleetGroup = Schemas['FleetGroup']
export type Finding = Schemas['Finding']

/** Who is signed in: undefined until asked, null for nobody. */
export const session = ref<Session | null | undefined>(undefined)

export const api = createClient<paths>({ credentials: 'same-origin' })

/** Asks the person who is signed in for their password: what was wrong with the last one, and where the next goes. */
export const proof = ref<{ wrong: string; answer: (password: string) => void }>()

const sent = new WeakMap<Request, Request>()

api.use({
  onRequest({ request }) {
    sent.set(request, request.clone()) // its body can be read once
    return undefined
  },
  async onResponse({ request: asked, response }) {
    if (response.status === 401) session.value = null
    const request = sent.get(asked)
    if (!request || !(await needed(response))) return undefined
    const proved = asking.then(() => prove(request, response))
    asking = proved.catch(() => undefined)
    return proved
  },
})

/** Ends with the last question: there is one at a time. */
let asking: Promise<unknown> = Promise.resolve()

/** Asks for the password until it is right, or nobody wants to give it, and sends the request again with it. */
async function prove(request: Request, response: Response): Promise<Response> {
  let answer = response
  let wrong = ''
  try {
    while (await needed(answer)) {
      const password = await new Promise<string>((tell) => {
        proof.value = { wrong, answer: tell }
      })
      if (!password) break
      const again = request.clone()
      again.headers.set('Vorrang-Password', encodeURIComponent(password))
      answer = await fetch(again)
      wrong = 'That is not your password.'
    }
  } finally {
    proof.value = undefined
  }
  return answer
}

/** Gives what the service says when it asks somebody to show who they are. */
async function needed(answer: Response): Promise<Problem | undefined> {
  if (answer.status !== 403) return undefined
  const problem = (await answer
    .clone()
    .json()
    .catch(() => undefined)) as Problem | undefined
  return problem?.type === 'urn:vorrang:proof-needed' ? problem : undefined
}

/** An answer of the service that is no result. */
export class ApiError extends Error {
  constructor(readonly problem: Problem) {
    super(problem.detail || problem.title)
  }
}

const silence: Problem = {
  type: 'urn:vorrang:silent',
  title: 'No answer',
  status: 0,
  detail: 'The service does not answer.',
  remedies: [{ reason: 'is vorrangd running? This page tries again by itself', arguments: {} }],
}

/** Gives a call's result, or throws an ApiError. */
export async function result<T>(call: Promise<{ data?: T; error?: unknown }>): Promise<T> {
  let answer
  try {
    answer = await call
  } catch {
    throw new ApiError(silence)
  }
  if (answer.data !== undefined) return visible(answer.data)
  const problem = visible(answer.error as Problem | undefined)
  throw new ApiError(problem?.title ? problem : silence)
}

export function problemOf(error: unknown): Problem {
  return error instanceof ApiError
    ? error.problem
    : { ...silence, title: 'Something went wrong', detail: String(error), remedies: [] }
}

/** Asks who is signed in. */
export async function askSession() {
  const { data } = await api.GET('/api/v1/session').catch(() => ({ data: undefined }))
  session.value = data ?? null
}
