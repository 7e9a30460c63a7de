/** The pages of what changes over time. */
export const trendPages: [string, string][] = [
  ["/trends", "What fails"],
  ["/trends/slow", "What is slow"],
  ["/trends/lab", "How the lab is used"],
  ["/compare", "What is different"],
  ["/unsteady", "What is unsteady"],
  ["/aside", "What is set aside"],
];
