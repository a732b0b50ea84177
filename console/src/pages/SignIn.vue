<script setup lang="ts">
import { ElButton, ElInput } from 'element-plus'
import { ref } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { trouble, type Trouble } from '../api'
import TroubleBox from '../parts/TroubleBox.vue'
import { useSession } from '../session'

const session = useSession()
const router = useRouter()
const route = useRoute()
const token = ref('')
const wrong = ref<Trouble>()
const busy = ref(false)

async function enter() {
  busy.value = true
  wrong.value = undefined
  try {
    const error = await session.signIn(token.value.trim())
    if (error) wrong.value = trouble(error)
    else await router.push(String(route.query.to ?? '/'))
  } catch {
    wrong.value = trouble(undefined)
  }
  busy.value = false
}
</script>

<template>
  <form class="door" @submit.prevent="enter">
    <h1><img src="/mark.svg" alt="" width="30" height="30" /> Noemata</h1>
    <p class="quiet">Tables of your databases, kept in your warehouse: exactly, and with proof.</p>
    <label for="token">Token</label>
    <ElInput id="token" v-model="token" type="password" autocomplete="current-password" autofocus placeholder="noe_…" />
    <TroubleBox :trouble="wrong" />
    <ElButton native-type="submit" type="primary" :loading="busy" :disabled="!token">Sign in</ElButton>
    <p class="quiet small">The service printed the first token when it started for the first time. <code>noemata tokens add NAME</code> makes more.</p>
  </form>
</template>

<style scoped>
.door { max-width: 380px; margin: 14vh auto 0; padding: 26px 28px; background: var(--sheet); border: 1px solid var(--line); border-radius: 4px; display: flex; flex-direction: column; gap: 12px; }
.door h1 { display: flex; gap: 10px; align-items: center; }
.door p { margin: 0; }
label { font-weight: 600; margin-bottom: -8px; }
.small { font-size: 12px; }
</style>
