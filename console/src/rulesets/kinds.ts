import type { Rule, Ruleset } from '@/api/client'

export type Kind = Ruleset['kind']
export type SelectorName =
  | 'category'
  | 'family'
  | 'everything'
  | 'search_term'
  | 'media_type'
  | 'host'
  | 'url'
  | 'address'
  | 'service'
  | 'suitability'
  | 'decision'
  | 'pattern'
  | 'application_set'
  | 'sha256'

interface KindShape {
  kind: Kind
  route: string
  title: string
  about: string
  empty: string
  keyExample: string
  nameExample: string
  selectors: { name: SelectorName; label: string; example: string }[]
  actions: Rule['action'][]
}

const ALL: Rule['action'][] = ['block', 'warn', 'allow', 'log']

/** The kinds of rulesets that are lists of rules, each with what its rules may name. */
export const KINDS: Record<string, KindShape> = {
  indicators: {
    kind: 'indicator',
    route: 'indicators',
    title: 'Indicators',
    about:
      'Hosts, URLs, addresses and services by name. One that is narrow lifts what a host’s categories say.',
    empty: 'Make a ruleset to block, warn of or allow single hosts and URLs.',
    keyExample: 'fraud-hosts',
    nameExample: 'Fraud hosts',
    selectors: [
      { name: 'host', label: 'Host and all below', example: 'parcel-refund.example' },
      { name: 'url', label: 'URL and all below', example: 'https://files.example/drop/' },
      { name: 'address', label: 'Address or range', example: '203.0.113.0/24' },
      { name: 'service', label: 'Service', example: 'quick-drop' },
      { name: 'suitability', label: 'Services by suitability', example: '0-25' },
      { name: 'decision', label: 'Services by decision', example: 'declined' },
    ],
    actions: ALL,
  },
  sites: {
    kind: 'site',
    route: 'sites',
    title: 'Site lists',
    about: 'Patterns that a browser is handed as its own policy. They hold for the whole machine.',
    empty: 'Make a ruleset of patterns that browsers block or allow by themselves.',
    keyExample: 'kiosk-sites',
    nameExample: 'Kiosk sites',
    selectors: [{ name: 'pattern', label: 'Pattern', example: 'tickets.brackwater.example' }],
    actions: ['block', 'allow'],
  },
  startup: {
    kind: 'startup',
    route: 'startup',
    title: 'Startup',
    about: 'Programs that may not start, by application set or one by one.',
    empty: 'Make a ruleset of programs that may not start.',
    keyExample: 'no-remote-control',
    nameExample: 'No remote control',
    selectors: [
      { name: 'application_set', label: 'Application set', example: 'remote-control' },
      { name: 'sha256', label: 'Program by SHA-256', example: '64 hexadecimal digits' },
      { name: 'everything', label: 'Everything else', example: '' },
    ],
    actions: ALL,
  },
}

/** Where a ruleset of a kind is edited. */
export const routeOf = (kind: Kind) =>
  kind === 'category' ? 'categories' : Object.values(KINDS).find((one) => one.kind === kind)!.route

const NAMES: SelectorName[] = [
  'category',
  'family',
  'everything',
  'search_term',
  'media_type',
  ...Object.values(KINDS).flatMap(({ selectors }) => selectors.map(({ name }) => name)),
]

/** What a rule names: which kind of thing, and which. */
export function selectorOf(rule: Rule): { name: SelectorName; value: string } {
  const name = NAMES.find((one) => rule[one] !== null && rule[one] !== undefined)!
  const given = rule[name]
  if (name === 'suitability') {
    const { from, to } = given as { from?: number | null; to?: number | null }
    return { name, value: `${from ?? 0}-${to ?? 100}` }
  }
  return { name, value: name === 'everything' ? '' : String(given) }
}

/** The rule's selector from what was typed. */
export function selectorFrom(name: SelectorName, value: string): Partial<Rule> {
  const text = value.trim()
  if (name === 'everything') return { everything: true }
  if (name === 'suitability') {
    const [from, to] = text.split('-').map((part) => Number(part))
    return {
      suitability: {
        from: Number.isFinite(from) ? from : undefined,
        to: Number.isFinite(to) ? to : undefined,
      },
    }
  }
  return { [name]: text } as Partial<Rule>
}

/** The rule's selector in words. */
export function selectorText(rule: Rule): string {
  const { name, value } = selectorOf(rule)
  if (name === 'everything') return 'everything'
  return `${value}${rule.exact ? ' exact' : ''}`
}

/** A target in words: the group's key, or the device's name. */
export const targetText = (target: string | { device: string }) =>
  typeof target === 'string' ? target : target.device
