<script setup lang="ts">
import { computed } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { closeLive, connected } from './live'
import { useSession } from './session'
import { switchTheme, theme } from './theme'

const session = useSession()
const router = useRouter()
const route = useRoute()
const places = computed(() => [
  { to: '/', word: 'Overview' },
  { to: '/runs', word: 'Runs' },
  { to: '/ask', word: 'Ask' },
  { to: '/derived', word: 'Derived' },
  { to: '/alerts', word: 'Alerts' },
  { to: '/sources', word: 'Sources' },
  { to: '/warehouses', word: 'Warehouses' },
  { to: '/service', word: 'Service' },
  ...(session.role === 'administer' ? [{ to: '/people', word: 'People' }] : []),
])
const here = computed(() =>
  route.path === '/' || route.path.startsWith('/feeds') || route.path === '/set-up'
    ? '/'
    : '/' + route.path.split('/')[1],
)

async function leave() {
  closeLive()
  await session.signOut()
  await router.push('/sign-in')
}
</script>

<template>
  <a class="skip" href="#main">To the content</a>
  <header v-if="session.name" class="top">
    <RouterLink to="/" class="mark"><img src="/mark.svg" alt="" width="22" height="22" /> Noemata</RouterLink>
    <nav aria-label="Places">
      <RouterLink v-for="p in places" :key="p.to" :to="p.to" :aria-current="here === p.to ? 'page' : undefined">{{
        p.word
      }}</RouterLink>
    </nav>
    <span
      class="live"
      role="status"
      :title="connected ? 'Changes show as they happen' : 'Trying to reach the service again'"
      >{{ connected ? '● live' : '○ not live' }}</span
    >
    <button class="plain" type="button" @click="switchTheme">{{ theme === 'dark' ? 'Light' : 'Dark' }}</button>
    <span class="quiet" :title="`role: ${session.role}`">{{ session.name }}</span>
    <button class="plain" type="button" @click="leave">Sign out</button>
  </header>
  <main id="main"><RouterView :key="route.path + (route.query.name ?? '')" /></main>
</template>

<style scoped>
.top {
  display: flex;
  align-items: center;
  gap: 18px;
  padding: 0 28px;
  height: 46px;
  background: var(--sheet);
  border-bottom: 1px solid var(--line);
}
.mark {
  display: flex;
  align-items: center;
  gap: 8px;
  font-weight: 650;
  color: var(--ink);
  letter-spacing: 0.01em;
}
.mark:hover {
  text-decoration: none;
}
nav {
  display: flex;
  gap: 4px;
  flex: 1;
  margin-left: 14px;
}
nav a {
  color: var(--ink-2);
  padding: 12px 10px 10px;
  border-bottom: 3px solid transparent;
}
nav a:hover {
  color: var(--ink);
  text-decoration: none;
}
nav a[aria-current] {
  color: var(--ink);
  border-bottom-color: var(--act);
  font-weight: 600;
}
.live {
  font-size: 12px;
  color: var(--ink-2);
}
.plain {
  background: none;
  border: 0;
  color: var(--act);
  font: inherit;
  cursor: pointer;
  padding: 4px;
}
@media (max-width: 760px) {
  .top {
    flex-wrap: wrap;
    height: auto;
    padding: 8px 16px 0;
    gap: 4px 14px;
  }
  nav {
    order: 1;
    flex-basis: 100%;
    margin-left: -10px;
    overflow-x: auto;
  }
}
.skip {
  position: absolute;
  left: -999px;
}
.skip:focus {
  left: 8px;
  top: 8px;
  background: var(--sheet);
  padding: 6px 10px;
  z-index: 10;
}
</style>
