import { createRouter, createWebHistory } from 'vue-router'
import { useSession } from './session'

export const router = createRouter({
  history: createWebHistory(),
  routes: [
    { path: '/sign-in', component: () => import('./pages/SignIn.vue'), meta: { open: true, title: 'Sign in' } },
    { path: '/', component: () => import('./pages/Overview.vue'), meta: { title: 'Overview' } },
    { path: '/feeds/:feed', component: () => import('./pages/Feed.vue'), props: true, meta: { title: 'Feed' } },
    {
      path: '/feeds/:feed/change',
      component: () => import('./pages/SetUp.vue'),
      props: true,
      meta: { title: 'Change' },
    },
    {
      path: '/feeds/:feed/table',
      component: () => import('./pages/Table.vue'),
      props: (route) => ({ feed: route.params.feed, table: String(route.query.name ?? '') }),
      meta: { title: 'Table' },
    },
    { path: '/set-up', component: () => import('./pages/SetUp.vue'), meta: { title: 'Set up a feed' } },
    { path: '/runs', component: () => import('./pages/Runs.vue'), meta: { title: 'Runs' } },
    {
      path: '/runs/:id',
      component: () => import('./pages/Run.vue'),
      props: (route) => ({ id: Number(route.params.id) }),
      meta: { title: 'Run' },
    },
    {
      path: '/sources',
      component: () => import('./pages/Connections.vue'),
      props: { side: 'sources' },
      meta: { title: 'Sources' },
    },
    {
      path: '/warehouses',
      component: () => import('./pages/Connections.vue'),
      props: { side: 'warehouses' },
      meta: { title: 'Warehouses' },
    },
    { path: '/ask', component: () => import('./pages/Ask.vue'), meta: { title: 'Ask' } },
    { path: '/derived', component: () => import('./pages/Derived.vue'), meta: { title: 'Derived tables' } },
    { path: '/alerts', component: () => import('./pages/Alerts.vue'), meta: { title: 'Alerts' } },
    { path: '/service', component: () => import('./pages/Service.vue'), meta: { title: 'Service' } },
    { path: '/people', component: () => import('./pages/People.vue'), meta: { title: 'People' } },
    { path: '/:rest(.*)', component: () => import('./pages/Missing.vue'), meta: { title: 'Not found' } },
  ],
})

router.beforeEach(async (to) => {
  const session = useSession()
  if (!session.known) await session.look()
  if (!to.meta.open && !session.name) return { path: '/sign-in', query: { to: to.fullPath } }
})

router.afterEach((to) => {
  const thing = to.params.feed ?? to.params.id ?? ''
  document.title = [to.query.name ?? thing, to.meta.title, 'Noemata'].filter(Boolean).join(' · ')
})
