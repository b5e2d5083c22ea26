import { crud } from './crud'
import type { components } from './schema'

type Schemas = components['schemas']
export type Service = Schemas['ServiceSummary']
export type ServiceBody = Schemas['Service']

const services = crud<Service, ServiceBody>('services')

export const useServices = services.useAll
export const useCreateService = services.useCreate
export const usePutService = services.usePut
export const useRemoveService = services.useRemove
