import type { Schemas } from '@/api/client'
import { crud } from '@/api/crud'

export type Service = Schemas['ServiceSummary']
export type ServiceBody = Schemas['Service']

const services = crud<Service, ServiceBody>('services')

export const useServices = services.useAll
export const useCreateService = services.useCreate
export const usePutService = services.usePut
export const useRemoveService = services.useRemove
