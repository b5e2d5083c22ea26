import { useMutation, useQuery } from '@tanstack/vue-query'
import { computed, toValue, type MaybeRefOrGetter } from 'vue'

import { api, told } from './client'
import { usePages } from './paging'
import type { components, paths } from './schema'

export type DeviceFilters = NonNullable<paths['/api/v1/devices']['get']['parameters']['query']>
export type ActivityFilters = NonNullable<paths['/api/v1/activity']['get']['parameters']['query']>

/** Devices, a page at a time. */
export function useDevices(filters: MaybeRefOrGetter<DeviceFilters>) {
  return usePages(['devices', computed(() => toValue(filters))], (cursor) =>
    told(api.GET('/api/v1/devices', { params: { query: { ...toValue(filters), cursor } } })),
  )
}

/** One device by id or hostname. */
export function useDevice(device: MaybeRefOrGetter<string>) {
  return useQuery({
    queryKey: ['device', computed(() => toValue(device))],
    queryFn: () =>
      told(api.GET('/api/v1/devices/{device}', { params: { path: { device: toValue(device) } } })),
  })
}

/** What a device does about each web category that some rule names. */
export function useBlocks(device: MaybeRefOrGetter<string>) {
  return useQuery({
    queryKey: ['blocks', computed(() => toValue(device))],
    queryFn: () =>
      told(api.GET('/api/v1/devices/{device}/blocks', { params: { path: { device: toValue(device) } } })),
  })
}

/** A device's layers, and what stands in their way. */
export function useDeviceReadiness(device: MaybeRefOrGetter<string>) {
  return useQuery({
    queryKey: ['device', 'readiness', computed(() => toValue(device))],
    queryFn: () =>
      told(api.GET('/api/v1/devices/{device}/readiness', { params: { path: { device: toValue(device) } } })),
  })
}

/** What was done to a device, newest first. */
export function useDeviceEvents(device: MaybeRefOrGetter<string>) {
  return useQuery({
    queryKey: ['device', 'events', computed(() => toValue(device))],
    queryFn: () =>
      told(api.GET('/api/v1/devices/{device}/events', { params: { path: { device: toValue(device) } } })),
  })
}

/** How many devices are in each roll-out state. */
export function useRollout() {
  return useQuery({ queryKey: ['rollout'], queryFn: () => told(api.GET('/api/v1/rollout')) })
}

/** The verdict on a visit. */
export function useCheckVisit() {
  return useMutation({
    mutationFn: (body: components['schemas']['Attempt']) =>
      told(api.POST('/api/v1/check', { body, params: { query: { left_aside: true } } })),
  })
}

/** Reported attempts, newest first, a page at a time. */
export function useActivity(filters: MaybeRefOrGetter<ActivityFilters>) {
  return usePages(['activity', computed(() => toValue(filters))], (cursor) =>
    told(api.GET('/api/v1/activity', { params: { query: { ...toValue(filters), cursor } } })),
  )
}
