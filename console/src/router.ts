import { createRouter, createWebHistory } from 'vue-router'

import { KINDS } from './composables/kinds'

export const router = createRouter({
  history: createWebHistory('/console/'),
  routes: [
    { path: '/', redirect: { name: 'overview' } },
    {
      path: '/overview',
      name: 'overview',
      component: () => import('./pages/OverviewPage.vue'),
      meta: { title: 'Overview' },
    },
    {
      path: '/sign-in',
      name: 'sign-in',
      component: () => import('./pages/SignInPage.vue'),
      meta: { title: 'Sign in' },
    },
    {
      path: '/fleet',
      name: 'devices',
      component: () => import('./pages/DevicesPage.vue'),
      meta: { title: 'Fleet' },
    },
    {
      path: '/fleet/groups/:group?',
      name: 'groups',
      component: () => import('./pages/GroupsPage.vue'),
      meta: { title: 'Groups' },
    },
    {
      path: '/fleet/enrolment',
      name: 'enrolment',
      component: () => import('./pages/EnrolmentPage.vue'),
      meta: { title: 'Enrolment' },
    },
    {
      path: '/fleet/layers',
      name: 'layers',
      component: () => import('./pages/LayersPage.vue'),
      meta: { title: 'Layers' },
    },
    {
      path: '/fleet/coverage',
      name: 'coverage',
      component: () => import('./pages/CoveragePage.vue'),
      meta: { title: 'Coverage' },
    },
    {
      path: '/fleet/machines/:device',
      name: 'device',
      component: () => import('./pages/DevicePage.vue'),
      meta: { title: 'Machine' },
    },
    {
      path: '/controls/categories/:ruleset?',
      name: 'categories',
      component: () => import('./pages/RulesetsPage.vue'),
      meta: { title: 'Web categories' },
    },
    ...Object.entries(KINDS).map(([name, { title }]) => ({
      path: `/controls/${name}/:ruleset?`,
      name,
      component: () => import('./pages/RulesetsPage.vue'),
      meta: { title },
    })),
    {
      path: '/controls/application-sets/:set?',
      name: 'application-sets',
      component: () => import('./pages/ApplicationSetsPage.vue'),
      meta: { title: 'Applications' },
    },
    {
      path: '/controls/taxonomy',
      name: 'taxonomy',
      component: () => import('./pages/TaxonomyPage.vue'),
      meta: { title: 'Taxonomy' },
    },
    {
      path: '/controls/feeds/:feed?',
      name: 'feeds',
      component: () => import('./pages/FeedsPage.vue'),
      meta: { title: 'Feeds' },
    },
    {
      path: '/controls/corrections',
      name: 'corrections',
      component: () => import('./pages/CorrectionsPage.vue'),
      meta: { title: 'Corrections' },
    },
    {
      path: '/find',
      name: 'find',
      component: () => import('./pages/FindPage.vue'),
      meta: { title: 'Find' },
    },
    {
      path: '/controls/services',
      name: 'services',
      component: () => import('./pages/ServicesPage.vue'),
      meta: { title: 'Services' },
    },
    {
      path: '/controls/schedules/:schedule?',
      name: 'schedules',
      component: () => import('./pages/SchedulesPage.vue'),
      meta: { title: 'Schedules' },
    },
    {
      path: '/controls/objects/:list/:object?',
      name: 'objects',
      component: () => import('./pages/ObjectsPage.vue'),
      meta: { title: 'Controls' },
    },
    {
      path: '/assignments',
      name: 'board',
      component: () => import('./pages/BoardPage.vue'),
      meta: { title: 'Assignments' },
    },
    {
      path: '/assignments/overlaps',
      name: 'group-overlaps',
      component: () => import('./pages/GroupOverlapsPage.vue'),
      meta: { title: 'How groups overlap' },
    },
    {
      path: '/verify/findings',
      name: 'findings',
      component: () => import('./pages/FindingsPage.vue'),
      meta: { title: 'Findings' },
    },
    {
      path: '/roll-out/history/:number?',
      name: 'history',
      component: () => import('./pages/HistoryPage.vue'),
      meta: { title: 'History' },
    },
    {
      path: '/roll-out',
      name: 'rollout',
      component: () => import('./pages/RolloutPage.vue'),
      meta: { title: 'Roll-out' },
    },
    {
      path: '/activity',
      name: 'activity',
      component: () => import('./pages/ActivityPage.vue'),
      meta: { title: 'Activity' },
    },
    {
      path: '/:rest(.*)',
      name: 'nothing',
      component: () => import('./pages/NothingPage.vue'),
      meta: { title: 'Not found' },
    },
  ],
})

router.afterEach((to) => {
  document.title = `${String(to.meta.title ?? 'Console')} · Portero`
})
