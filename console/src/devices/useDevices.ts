import { useQuery } from '@tanstack/vue-query'
import { computed, type MaybeRefOrGetter, toValue } from 'vue'

import { api, told } from '@/api/client'
import { usePages } from '@/api/paging'
import type { paths } from '@/api/schema'

export type DeviceFilters = NonNullable<paths['/api/v1/devices']['get']['parameters']['query']>

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

/** The browsers of a device, and who governs each. */
export function useDeviceBrowsers(device: MaybeRefOrGetter<string>) {
  return useQuery({
    queryKey: ['browsers', computed(() => toValue(device))],
    queryFn: () =>
      told(api.GET('/api/v1/devices/{device}/browsers', { params: { path: { device: toValue(device) } } })),
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
