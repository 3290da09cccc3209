/** What a project is read for: to be served while it's worked on, or to be built for others. */
export type Mode = 'development' | 'production';
