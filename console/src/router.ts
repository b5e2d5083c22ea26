import { createRouter, createWebHistory } from 'vue-router'

import { KINDS } from '@/rulesets/kinds'

export const router = createRouter({
  history: createWebHistory('/console/'),
  routes: [
    { path: '/', redirect: { name: 'overview' } },
    {
      path: '/overview',
      name: 'overview',
      component: () => import('@/worklist/OverviewPage.vue'),
      meta: { title: 'Overview' },
    },
    {
      path: '/sign-in',
      name: 'sign-in',
      component: () => import('@/access/SignInPage.vue'),
      meta: { title: 'Sign in' },
    },
    {
      path: '/setup',
      name: 'setup',
      component: () => import('@/access/SetupPage.vue'),
      meta: { title: 'Set up' },
    },
    {
      path: '/fleet',
      name: 'devices',
      component: () => import('@/devices/DevicesPage.vue'),
      meta: { title: 'Fleet' },
    },
    {
      path: '/fleet/groups/:group?',
      name: 'groups',
      component: () => import('@/groups/GroupsPage.vue'),
      meta: { title: 'Groups' },
    },
    {
      path: '/fleet/enrolment',
      name: 'enrolment',
      component: () => import('@/enrolment/EnrolmentPage.vue'),
      meta: { title: 'Enrolment' },
    },
    {
      path: '/settings',
      name: 'settings',
      component: () => import('@/settings/SettingsPage.vue'),
      meta: { title: 'Settings' },
    },
    {
      path: '/access',
      name: 'access',
      component: () => import('@/access/AccessPage.vue'),
      meta: { title: 'Sessions and tokens' },
    },
    {
      path: '/access/administrators',
      name: 'administrators',
      component: () => import('@/administrators/AdministratorsPage.vue'),
      meta: { title: 'Administrators' },
    },
    {
      path: '/access/audit',
      name: 'audit',
      component: () => import('@/audit/AuditPage.vue'),
      meta: { title: 'Audit trail' },
    },
    {
      path: '/fleet/layers',
      name: 'layers',
      component: () => import('@/layer-modes/LayersPage.vue'),
      meta: { title: 'Layers' },
    },
    {
      path: '/fleet/restrictions',
      name: 'restrictions',
      component: () => import('@/restrictions/RestrictionsPage.vue'),
      meta: { title: 'Restrictions' },
    },
    {
      path: '/fleet/coverage',
      name: 'coverage',
      component: () => import('@/coverage/CoveragePage.vue'),
      meta: { title: 'Coverage' },
    },
    {
      path: '/fleet/machines/:device',
      name: 'device',
      component: () => import('@/devices/DevicePage.vue'),
      meta: { title: 'Machine' },
    },
    {
      path: '/controls/categories/:ruleset?',
      name: 'categories',
      component: () => import('@/rulesets/RulesetsPage.vue'),
      meta: { title: 'Web categories' },
    },
    ...Object.entries(KINDS).map(([name, { title }]) => ({
      path: `/controls/${name}/:ruleset?`,
      name,
      component: () => import('@/rulesets/RulesetsPage.vue'),
      meta: { title },
    })),
    {
      path: '/fleet/groups/:group/site-list',
      name: 'group-site-list',
      component: () => import('@/site-lists/GroupSiteListPage.vue'),
      meta: { title: 'Site list' },
    },
    {
      path: '/controls/application-sets/:set?',
      name: 'application-sets',
      component: () => import('@/application-sets/ApplicationSetsPage.vue'),
      meta: { title: 'Applications' },
    },
    {
      path: '/controls/taxonomy',
      name: 'taxonomy',
      component: () => import('@/categories/TaxonomyPage.vue'),
      meta: { title: 'Taxonomy' },
    },
    {
      path: '/controls/feeds/:feed?',
      name: 'feeds',
      component: () => import('@/feeds/FeedsPage.vue'),
      meta: { title: 'Feeds' },
    },
    {
      path: '/controls/corrections',
      name: 'corrections',
      component: () => import('@/corrections/CorrectionsPage.vue'),
      meta: { title: 'Corrections' },
    },
    {
      path: '/find',
      name: 'find',
      component: () => import('@/lookups/FindPage.vue'),
      meta: { title: 'Find' },
    },
    {
      path: '/controls/catalogue',
      name: 'catalogue',
      component: () => import('@/catalogue/CataloguePage.vue'),
      meta: { title: 'Catalogue' },
    },
    {
      path: '/controls/address-lists',
      name: 'address-lists',
      component: () => import('@/address-lists/AddressListsPage.vue'),
      meta: { title: 'Address lists' },
    },
    {
      path: '/controls/services',
      name: 'services',
      component: () => import('@/services/ServicesPage.vue'),
      meta: { title: 'Services' },
    },
    {
      path: '/controls/schedules/:schedule?',
      name: 'schedules',
      component: () => import('@/schedules/SchedulesPage.vue'),
      meta: { title: 'Schedules' },
    },
    {
      path: '/controls/objects/:list/:object?',
      name: 'objects',
      component: () => import('@/nouns/ObjectsPage.vue'),
      meta: { title: 'Controls' },
    },
    {
      path: '/assignments',
      name: 'board',
      component: () => import('@/board/BoardPage.vue'),
      meta: { title: 'Assignments' },
    },
    {
      path: '/assignments/overlaps',
      name: 'group-overlaps',
      component: () => import('@/groups/GroupOverlapsPage.vue'),
      meta: { title: 'How groups overlap' },
    },
    {
      path: '/verify/findings',
      name: 'findings',
      component: () => import('@/findings/FindingsPage.vue'),
      meta: { title: 'Findings' },
    },
    {
      path: '/verify/runs/:run?',
      name: 'runs',
      component: () => import('@/verifying/RunsPage.vue'),
      meta: { title: 'Runs' },
    },
    {
      path: '/verify/probe-sets/:object?',
      name: 'probe-sets',
      component: () => import('@/verifying/ProbeSetsPage.vue'),
      meta: { title: 'Probe sets' },
    },
    {
      path: '/verify/compare',
      name: 'compare',
      component: () => import('@/compared/ComparePage.vue'),
      meta: { title: 'Compare' },
    },
    {
      path: '/verify/evidence',
      name: 'evidence',
      component: () => import('@/verifying/EvidencePage.vue'),
      meta: { title: 'Evidence' },
    },
    {
      path: '/verify/why',
      name: 'why',
      component: () => import('@/whys/WhyPage.vue'),
      meta: { title: 'Why?' },
    },
    {
      path: '/roll-out/history/:number?',
      name: 'history',
      component: () => import('@/revisions/HistoryPage.vue'),
      meta: { title: 'History' },
    },
    {
      path: '/roll-out',
      name: 'rollout',
      component: () => import('@/rollout/RolloutPage.vue'),
      meta: { title: 'Roll-out' },
    },
    {
      path: '/roll-out/pushes/:push?',
      name: 'pushes',
      component: () => import('@/pushes/PushesPage.vue'),
      meta: { title: 'Pushes' },
    },
    {
      path: '/activity',
      name: 'activity',
      component: () => import('@/activity/ActivityPage.vue'),
      meta: { title: 'Activity' },
    },
    {
      path: '/:rest(.*)',
      name: 'nothing',
      component: () => import('@/base/NothingPage.vue'),
      meta: { title: 'Not found' },
    },
  ],
})

router.afterEach((to) => {
  document.title = `${String(to.meta.title ?? 'Console')} · Portero`
})
