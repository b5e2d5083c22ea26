import { shallowRef } from 'vue'

/** How far the service is with an answer that takes its time: what it looks at, how much is done, of how much. */
export interface Work {
  what: string
  done: number
  of: number
}

/** How far the newest answer is that is waited for; undefined where none takes its time. */
export const working = shallowRef<Work>()

/** The answer to a request; where it takes its time, `working` tells meanwhile how far it is. */
export async function answered(request: Request): Promise<Response> {
  request.headers.set('Accept', 'text/event-stream, application/json')
  const response = await globalThis.fetch(request)
  if (!response.headers.get('Content-Type')?.startsWith('text/event-stream')) return response
  try {
    for await (const { event, data } of events(response)) {
      if (event === 'working') working.value = JSON.parse(data) as Work
      else if (event === 'answered') return responseOf(data)
    }
  } finally {
    working.value = undefined
  }
  throw new TypeError('The answer broke off')
}

function responseOf(data: string): Response {
  const { status, headers, body } = JSON.parse(data) as {
    status: number
    headers: Record<string, string>
    body: unknown
  }
  const isEmpty = status === 204 || status === 304
  return new Response(isEmpty ? null : JSON.stringify(body), { status, headers })
}

/** Server-sent events, each by its name and data. */
async function* events(response: Response) {
  const reader = response.body!.pipeThrough(new TextDecoderStream()).getReader()
  let rest = ''
  let event = ''
  for (;;) {
    const { value, done } = await reader.read()
    if (done) return
    const lines = (rest + value).split(/\r?\n/)
    rest = lines.pop()!
    for (const line of lines) {
      const [, name, told] = /^(\w+): (.*)$/.exec(line) ?? []
      if (name === 'event') event = told!
      else if (name === 'data') yield { event, data: told! }
    }
  }
}
