import type { QueryClient } from '@tanstack/vue-query'
import { type Directive, type FunctionDirective, shallowRef } from 'vue'

import type { Schemas, Session } from '@/api/client'

export type Role = Schemas['Session']['role']
const ROLES: Role[] = ['reader', 'responder', 'author', 'keeper']

/** Whether somebody's role reaches that far. */
export const reaches = (session: Session | null | undefined, role: Role) =>
  ROLES.indexOf(session?.role ?? 'reader') >= ROLES.indexOf(role)

/** What somebody lacks for something, and who can give it: as the service says it. */
export function lacking(session: Session | null | undefined, role: Role): string {
  const keepers = session?.keepers?.slice(0, 3) ?? []
  const givers = [keepers.slice(0, -1).join(', '), keepers.at(-1)].filter(Boolean).join(' or ')
  const article = role === 'author' ? 'an' : 'a'
  return `This needs the role of ${article} ${role}; ${session?.name} is ${session?.role}, and ${givers} can give it.`
}

/** The sentence about what was tried last and is not permitted. */
export const refusal = shallowRef('')

const PRESSED = 'button, a.btn, label.btn'
const FILLED = 'input, select, textarea'
const sentences = new WeakMap<Element, string>()

function stop(event: Event) {
  const pressed = event.target instanceof Element ? event.target.closest(PRESSED) : null
  const sentence = pressed && sentences.get(pressed)
  if (!sentence) return
  event.preventDefault()
  event.stopImmediatePropagation()
  refusal.value = ''
  // said again, even where it is the same as before
  requestAnimationFrame(() => (refusal.value = sentence))
}

function mark(pressed: Element, sentence: string) {
  sentences.set(pressed, sentence)
  pressed.removeAttribute('disabled')
  pressed.setAttribute('aria-disabled', 'true')
  pressed.setAttribute('aria-description', sentence)
  pressed.setAttribute('title', sentence)
  pressed.classList.add('not-permitted')
}

function unmark(pressed: Element) {
  sentences.delete(pressed)
  for (const name of ['aria-disabled', 'aria-description', 'title']) pressed.removeAttribute(name)
  pressed.classList.remove('not-permitted')
}

/**
 * `v-needs:author`: what takes that role is shown to everybody. Whoever lacks it finds its buttons marked, and is told
 * on pressing one what they lack and who can give it. On what holds buttons and fields it is all of these.
 */
export function needs(queries: QueryClient): Directive<HTMLElement, undefined, string, Role> {
  const apply: FunctionDirective<HTMLElement, undefined, string, Role> = (element, { arg }) => {
    const session = queries.getQueryData<Session>(['session'])
    const within = element.matches(PRESSED) ? [element] : element.querySelectorAll(PRESSED)
    if (!arg || reaches(session, arg)) {
      for (const pressed of within) if (sentences.has(pressed)) unmark(pressed)
      return
    }
    const sentence = lacking(session, arg)
    for (const pressed of within) mark(pressed, sentence)
    for (const field of element.querySelectorAll(FILLED)) {
      field.setAttribute('disabled', '')
      field.setAttribute('aria-description', sentence)
      element.setAttribute('title', sentence)
    }
    element.addEventListener('click', stop, true)
  }
  return { mounted: apply, updated: apply }
}

declare module 'vue' {
  interface GlobalDirectives {
    vNeeds: Directive<HTMLElement, undefined, string, Role>
  }
}
