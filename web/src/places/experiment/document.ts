/** An experiment's document while it is edited: one text, seen as sentences or as it is written. */
import { useExperiment, useExperimentStep, useSaveExperiment } from '@/api/experiments'
import { useDraft } from '@/ui/draft'

export function useDocument(id: number) {
  return useDraft<{ source: string }, ReturnType<typeof useExperiment>['data']['value'] & object>(
    useExperiment(() => id),
    useSaveExperiment(id),
    useExperimentStep(id),
    ['source'],
  )
}
