import type { Schemas } from '@/api/client'
import { crud } from '@/api/crud'

export type AddressList = Schemas['AddressListState']
export type AddressListBody = Schemas['AddressList']

export const addressLists = crud<AddressList, AddressListBody>('address_lists')
export const useAddressLists = addressLists.useAll
