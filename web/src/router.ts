import { createRouter, createWebHistory } from 'vue-router'

declare module 'vue-router' {
  interface RouteMeta {
    title: string
    open?: boolean
  }
}

const number = (value: unknown) => Number(value)
/** Numbers of an address, apart by commas. */
const numbers = (value: unknown) =>
  typeof value === 'string' && /^\d+(,\d+)*$/.test(value) ? value.split(',').map(Number) : []

export const router = createRouter({
  history: createWebHistory(),
  routes: [
    { path: '/', redirect: '/experiments' },
    {
      path: '/sign-in',
      component: () => import('./places/SignIn.vue'),
      meta: { title: 'Sign in', open: true },
    },
    {
      path: '/welcome/:token',
      component: () => import('./places/Welcome.vue'),
      props: true,
      meta: { title: 'Invitation', open: true },
    },
    { path: '/you', component: () => import('./places/You.vue'), meta: { title: 'Your page' } },
    { path: '/people', component: () => import('./places/People.vue'), meta: { title: 'People' } },
    {
      path: '/targets',
      component: () => import('./places/Targets.vue'),
      meta: { title: 'Targets' },
    },
    {
      path: '/deeds',
      component: () => import('./places/Deeds.vue'),
      meta: { title: 'Who did what' },
    },
    {
      path: '/systems',
      component: () => import('./places/Systems.vue'),
      meta: { title: 'Systems' },
    },
    {
      path: '/systems/:id(\\d+)',
      component: () => import('./places/System.vue'),
      props: (route) => ({ id: number(route.params.id), key: String(route.params.id) }),
      meta: { title: 'System' },
    },
    {
      path: '/systems/:id(\\d+)/metrics',
      component: () => import('./places/Shelf.vue'),
      props: (route) => ({ id: number(route.params.id) }),
      meta: { title: 'Metric shelf' },
    },
    {
      path: '/capacity',
      component: () => import('./places/Capacity.vue'),
      meta: { title: 'Capacity' },
    },
    {
      path: '/capacity/:id(\\d+)',
      component: () => import('./places/CapacityPlan.vue'),
      props: (route) => ({ id: number(route.params.id), key: String(route.params.id) }),
      meta: { title: 'Capacity plan' },
    },
    {
      path: '/journeys',
      component: () => import('./places/Journeys.vue'),
      meta: { title: 'Journeys' },
    },
    {
      path: '/journeys/import',
      component: () => import('./places/JourneyImport.vue'),
      meta: { title: 'A journey from a file' },
    },
    {
      path: '/journeys/feeds',
      component: () => import('./places/Feeds.vue'),
      meta: { title: 'Feeds' },
    },
    {
      path: '/journeys/feeds/upload',
      component: () => import('./places/FeedUpload.vue'),
      meta: { title: 'A feed from a file' },
    },
    {
      path: '/journeys/feeds/:id(\\d+)',
      component: () => import('./places/Feed.vue'),
      props: (route) => ({ id: number(route.params.id), key: String(route.params.id) }),
      meta: { title: 'Feed' },
    },
    {
      path: '/journeys/:id(\\d+)',
      component: () => import('./places/Journey.vue'),
      props: (route) => ({ id: number(route.params.id), key: String(route.params.id) }),
      meta: { title: 'Journey' },
    },
    {
      path: '/experiments',
      component: () => import('./places/Experiments.vue'),
      meta: { title: 'Experiments' },
    },
    {
      path: '/experiments/new',
      component: () => import('./places/NewExperiment.vue'),
      meta: { title: 'New experiment' },
    },
    {
      path: '/experiments/:id(\\d+)',
      component: () => import('./places/Experiment.vue'),
      props: (route) => ({ id: number(route.params.id) }),
      meta: { title: 'Experiment' },
    },
    {
      path: '/experiments/:id(\\d+)/history',
      component: () => import('./places/History.vue'),
      props: (route) => ({ id: number(route.params.id) }),
      meta: { title: 'Over time' },
    },
    {
      path: '/series/:id(\\d+)',
      component: () => import('./places/Series.vue'),
      props: (route) => ({ id: number(route.params.id), key: String(route.params.id) }),
      meta: { title: 'Candidates' },
    },
    {
      path: '/systems/:id(\\d+)/history',
      component: () => import('./places/SystemHistory.vue'),
      props: (route) => ({ id: number(route.params.id) }),
      meta: { title: 'Over time' },
    },
    { path: '/runs', component: () => import('./places/Runs.vue'), meta: { title: 'Runs' } },
    {
      path: '/runs/:id(\\d+)/against/:other(\\d+)',
      component: () => import('./places/Against.vue'),
      props: (route) => ({
        id: number(route.params.id),
        other: number(route.params.other),
        pooled: { run: numbers(route.query.run), other: numbers(route.query.other) },
      }),
      meta: { title: 'Comparison' },
    },
    {
      path: '/runs/:id(\\d+)/requests',
      component: () => import('./places/Requests.vue'),
      props: (route) => ({ id: number(route.params.id) }),
      meta: { title: 'Requests' },
    },
    {
      path: '/runs/:id(\\d+)/steps/:step(step:\\d+)',
      component: () => import('./places/Step.vue'),
      props: (route) => ({ id: number(route.params.id), step: String(route.params.step) }),
      meta: { title: 'Step' },
    },
    {
      path: '/runs/:id(\\d+)/changes/:change(\\d+)',
      component: () => import('./places/Storm.vue'),
      props: (route) => ({ id: number(route.params.id), change: number(route.params.change) }),
      meta: { title: 'How soon they were ready' },
    },
    {
      path: '/runs/:id(\\d+)/sql',
      component: () => import('./places/Sql.vue'),
      props: (route) => ({ id: number(route.params.id) }),
      meta: { title: 'SQL' },
    },
    {
      path: '/runs/:id(\\d+)',
      component: () => import('./places/Run.vue'),
      props: (route) => ({ id: number(route.params.id) }),
      meta: { title: 'Run' },
    },
    {
      path: '/:rest(.*)*',
      component: () => import('./places/NotFound.vue'),
      meta: { title: 'Not found' },
    },
  ],
})

router.afterEach((to) => {
  document.title = `${to.meta.title} · Stone Kettle`
})
