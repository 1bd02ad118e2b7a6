import hooks from "eslint-plugin-react-hooks";
import a11y from "eslint-plugin-jsx-a11y";
import ts from "typescript-eslint";

export default ts.config(
  { ignores: ["dist", "src/data/api.gen.ts"] },
  ...ts.configs.recommendedTypeChecked,
  a11y.flatConfigs.recommended,
  { languageOptions: { parserOptions: { projectService: true, tsconfigRootDir: import.meta.dirname } } },
  {
    plugins: { "react-hooks": hooks },
    rules: {
      ...hooks.configs.recommended.rules,
      "jsx-a11y/label-has-associated-control": ["error", { controlComponents: ["Pick"] }],
      // What scrolls can be reached by Tab (WCAG 2.1.1); axe demands it on every page that is tested.
      "jsx-a11y/no-noninteractive-tabindex": "off",
      // A dialog's field, and a search that was asked for, have the focus when they open.
      "jsx-a11y/no-autofocus": "off",
      // Videos of screens have no sound.
      "jsx-a11y/media-has-caption": "off",
      // Options and items of trees are walked by the keys of the list or tree that they are in (aria-activedescendant);
      // what a click on a picture tells stands in the tree beside it. The tests of pages walk them by keys.
      "jsx-a11y/interactive-supports-focus": "off",
      "jsx-a11y/click-events-have-key-events": "off",
      "jsx-a11y/no-noninteractive-element-interactions": "off",
      // A page or part that grows beyond this is parted: a folder of its name beside it.
      "max-lines": ["error", 400],
      "@typescript-eslint/no-misused-promises": ["error", { checksVoidReturn: false }],
    },
  },
);
