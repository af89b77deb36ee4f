import { createRouter, createWebHistory } from 'vue-router'

export const router = createRouter({
  history: createWebHistory(),
  routes: [
    { path: '/', name: 'board', component: () => import('./pages/BoardPage.vue') },
    { path: '/releases/:lane', name: 'releases', component: () => import('./pages/ReleasesPage.vue'), props: true },
    {
      path: '/lanes/:lane/:environment',
      name: 'environment',
      component: () => import('./pages/EnvironmentPage.vue'),
      props: true,
    },
    { path: '/deployments', name: 'deployments', component: () => import('./pages/DeploymentsPage.vue') },
    {
      path: '/deployments/:id(\\d+)',
      name: 'deployment',
      component: () => import('./pages/DeploymentPage.vue'),
      props: (route) => ({ id: Number(route.params.id) }),
    },
    {
      path: '/fleet-deployments/:id(\\d+)',
      name: 'fleet-deployment',
      component: () => import('./pages/FleetDeploymentPage.vue'),
      props: (route) => ({ id: Number(route.params.id) }),
    },
    { path: '/account', name: 'account', component: () => import('./pages/AccountPage.vue') },
    { path: '/people', name: 'people', component: () => import('./pages/PeoplePage.vue') },
    { path: '/audit', name: 'audit', component: () => import('./pages/AuditPage.vue') },
    { path: '/hooks', name: 'hooks', component: () => import('./pages/HooksPage.vue') },
    { path: '/:any(.*)*', component: () => import('./pages/NowherePage.vue') },
  ],
})
