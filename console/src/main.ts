import { createPinia } from 'pinia'
import { createApp } from 'vue'
import 'element-plus/dist/index.css'
import 'element-plus/theme-chalk/dark/css-vars.css'
import './look.css'
import App from './App.vue'
import { router } from './router'
import { applyTheme } from './theme'

applyTheme()
createApp(App).use(createPinia()).use(router).mount('#app')
