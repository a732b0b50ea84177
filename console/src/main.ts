import { createPinia } from 'pinia'
import { createApp } from 'vue'
import 'element-plus/dist/index.css'
import 'element-plus/theme-chalk/dark/css-vars.css'
import './look.css'
import { whenLost } from './api'
import App from './App.vue'
import { closeLive } from './live'
import { router } from './router'
import { useSession } from './session'
import { applyTheme } from './theme'

applyTheme()
createApp(App).use(createPinia()).use(router).mount('#app')

whenLost(() => {
  closeLive()
  useSession().forget()
  const here = router.currentRoute.value
  if (!here.meta.open) void router.push({ path: '/sign-in', query: { to: here.fullPath } })
})
