import { useQuery } from '@tanstack/react-query'

import { api, value } from './client'

/** The topics, how good each is and which rules ask for it. */
export const useTopics = () => useQuery({ queryKey: ['topics'], queryFn: () => value(api.GET('/api/v1/topics')) })
