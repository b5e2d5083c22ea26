/** Lists of the estate whose objects have pages of their own; all others are shown alike, by ObjectsPage. */
export const WITH_PAGES = new Set([
  'groups',
  'schedules',
  'application_sets',
  'application_corrections',
  'address_lists',
  'rulesets',
  'assignments',
  'corrections',
  'services',
  'layer_modes',
  'coverage',
  'feeds',
  'probe_sets',
])
