import { ElMessageBox } from 'element-plus'
import { ref } from 'vue'
import type { Answer, Trouble } from './api'

/** What a person is asked before something that cannot be undone. */
export interface Question {
  title: string
  text: string
  yes: string
}

async function sure(question: Question): Promise<boolean> {
  const options = { confirmButtonText: question.yes, cancelButtonText: 'Keep', type: 'warning' as const }
  return ElMessageBox.confirm(question.text, question.title, options).then(
    () => true,
    () => false,
  )
}

/**
 * The one way to act and to report: busy names what is under way, refused is why the
 * last act was not done, and afterwards the page looks again. One act at a time; what is
 * asked for meanwhile is not done.
 */
export function useActs(
  refresh: () => Promise<unknown> = async () => {},
  confirm: (question: Question) => Promise<boolean> = sure,
) {
  const busy = ref('')
  const refused = ref<Trouble>()

  /** Does what name stands for, and gives its data where it was done. */
  async function act<T>(name: string, call: () => Promise<Answer<T>>, question?: Question): Promise<Answer<T>> {
    if (busy.value) return {}
    if (question && !(await confirm(question))) return {}
    busy.value = name
    try {
      const answer = await call()
      refused.value = answer.trouble
      if (answer.trouble) busy.value = '' // what was refused may be tried again at once
      await refresh()
      return answer
    } finally {
      busy.value = ''
    }
  }

  return { busy, refused, act }
}
