<script setup lang="ts">
import { ref, useId, watch } from 'vue'

import { answered, api, inWords, type Problem, type Schemas } from '../../api/client'

/** A file's name and its tags. */
const file = defineModel<Schemas['File']>()
const { known } = defineProps<{ known: string[] }>()
const emit = defineEmits<{ changed: [] }>()
const id = useId()
const name = ref('')
const tags = ref<string[]>([])
const problem = ref('')
watch(file, f => {
  name.value = f?.name ?? ''
  tags.value = [...f?.tags ?? []]
  problem.value = ''
})

async function save() {
  const f = file.value
  if (!f) return
  try {
    await answered(api.PATCH('/v1/shelf/{name}', { params: { path: { name: f.name } }, body: { name: name.value === f.name ? undefined : name.value, tags: tags.value } }))
    file.value = undefined
    emit('changed')
  } catch (p) {
    problem.value = inWords(p as Problem)
  }
}
</script>

<template>
  <v-dialog :model-value="file !== undefined" max-width="480" :aria-labelledby="id" @update:model-value="file = undefined">
    <v-card tag="form" @submit.prevent="save">
      <h2 :id="id" class="text-title-large px-5 pt-5">Name and tags</h2>
      <v-card-text class="px-5 stack">
        <v-text-field v-model="name" label="Name" :error-messages="problem" autofocus />
        <v-combobox v-model="tags" :items="known" label="Tags" multiple chips closable-chips variant="outlined" density="compact" hint="Enter ends a tag" persistent-hint />
      </v-card-text>
      <v-card-actions class="px-4 pb-4">
        <v-spacer />
        <v-btn variant="text" @click="file = undefined">Leave it</v-btn>
        <v-btn variant="flat" color="primary" type="submit">Save</v-btn>
      </v-card-actions>
    </v-card>
  </v-dialog>
</template>
