/** The pages of what changes over time. */
export const trendPages: [string, string][] = [
  ["/trends", "What fails"],
  ["/trends/slow", "What is slow"],
  ["/unsteady", "What is unsteady"],
  ["/aside", "What is set aside"],
];
