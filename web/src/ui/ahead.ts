let under = 0

/** Loads a part of the console before anybody asks for it. If that fails, it is loaded when it is needed. */
export const loadAhead = (load: () => Promise<unknown>) => {
  under++
  void load()
    .catch(() => undefined)
    .finally(() => under--)
}

/** Whether a part is being loaded that nobody waits for. */
export const loadsAhead = () => under > 0
