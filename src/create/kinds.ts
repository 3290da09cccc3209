/** What a project's page is made with. */
export const kinds = ['page', 'react', 'preact', 'vue', 'svelte'] as const;
export type Kind = (typeof kinds)[number];
