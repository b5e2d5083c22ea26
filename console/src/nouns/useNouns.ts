import { useQuery } from '@tanstack/vue-query'

import { api, told } from '@/api/client'
import { crud } from '@/api/crud'
import type { components } from '@/api/schema'

export type DescribedNoun = components['schemas']['DescribedNoun']
export type Noun = DescribedNoun & { plural: string }

/** An object of any noun: its document, with its version and, where it has one, its name. */
export type AnyObject = { [field: string]: unknown; version?: number | null }

/** What administrators author, noun by noun; it changes with the program only. */
export const useNouns = () =>
  useQuery({
    queryKey: ['nouns'],
    queryFn: async (): Promise<Noun[]> =>
      (await told(api.GET('/api/v1/nouns'))).map((one) => {
        const words = one.list.replaceAll('_', ' ')
        return { ...one, plural: words.charAt(0).toUpperCase() + words.slice(1) }
      }),
    staleTime: Infinity,
  })

/** The calls of any noun. */
export const callsOf = (noun: DescribedNoun) => crud<AnyObject, AnyObject>(noun.list, noun.key)
