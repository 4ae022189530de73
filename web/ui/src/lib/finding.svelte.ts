/** What the page that is open offers to be found, before everything else. */
export interface Hit {
  name: string;
  what: string;
  to?: string; // an address
  act?: () => void; // or what opening it does
}

export const finding = $state<{ here: Hit[] }>({ here: [] });
