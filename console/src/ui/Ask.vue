<script setup lang="ts">
import { useId } from 'vue'

/** A question that is asked before something is done that cannot be undone. */
const { title, yes, no } = defineProps<{ title: string, yes: string, no: string }>()
const open = defineModel<boolean>({ required: true })
const emit = defineEmits<{ yes: [] }>()
const id = useId()

function answer() {
  open.value = false
  emit('yes')
}
</script>

<template>
  <v-dialog v-model="open" max-width="420" :aria-labelledby="id">
    <v-card>
      <h2 :id="id" class="text-title-large px-5 pt-5">{{ title }}</h2>
      <v-card-text class="break px-5"><slot /></v-card-text>
      <v-card-actions class="px-4 pb-4">
        <v-spacer />
        <v-btn variant="text" @click="open = false">{{ no }}</v-btn>
        <v-btn variant="flat" color="error" @click="answer">{{ yes }}</v-btn>
      </v-card-actions>
    </v-card>
  </v-dialog>
</template>
