// The project that the address names, and the one that was used last.
import { useParams } from 'react-router'

export const useProjectId = () => Number(useParams().project)

const key = 'excavate.project'
export const lastProject = () => Number(localStorage.getItem(key)) || undefined
export const rememberProject = (id: number) => localStorage.setItem(key, String(id))
export const forgetProject = (id: number) => {
  if (lastProject() === id) localStorage.removeItem(key)
}
