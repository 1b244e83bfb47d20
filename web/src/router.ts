import { createRouter, createWebHistory } from 'vue-router'

export const router = createRouter({
  history: createWebHistory(),
  routes: [
    { path: '/', component: () => import('./contact/ContactSheet.vue') },
    { path: '/takes/:id', component: () => import('./workspace/Workspace.vue') },
    { path: '/takes/:id/text', component: () => import('./contact/TakeText.vue') },
    { path: '/manual/:page?', component: () => import('./manual/Manual.vue') },
    { path: '/runs', component: () => import('./runs/Runs.vue') },
    { path: '/:rest(.*)*', redirect: '/' },
  ],
})
