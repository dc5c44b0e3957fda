import js from "@eslint/js";
import a11y from "eslint-plugin-jsx-a11y";
import hooks from "eslint-plugin-react-hooks";
import ts from "typescript-eslint";

export default ts.config(
  { ignores: ["dist", "src/api/schema.d.ts"] },
  js.configs.recommended,
  ...ts.configs.recommended,
  a11y.flatConfigs.recommended,
  {
    settings: { "jsx-a11y": { components: { Box: "div", Flex: "div", Grid: "div", Text: "p", Btn: "button", Link: "button", Input: "input", Textarea: "textarea" } } },
    rules: {
      // A form that somebody has just opened takes the focus: else it has to be looked for.
      "jsx-a11y/no-autofocus": "off",
      // Keys are listened to where they bubble up to, on a list around what has the
      // focus; what can be pressed with a mouse has to be a control of its own.
      "jsx-a11y/no-static-element-interactions": ["error", { handlers: ["onClick", "onMouseDown", "onMouseUp"] }],
      "jsx-a11y/no-noninteractive-element-interactions": ["error", { handlers: ["onClick", "onMouseDown", "onMouseUp"] }],
      // In grids the cells have the focus, in turn (ARIA Authoring Practices, Grid).
      "jsx-a11y/interactive-supports-focus": "off",
      "jsx-a11y/no-noninteractive-tabindex": ["error", { roles: ["tabpanel", "row", "group", "alert", "status"], allowExpressionValues: true }],
    },
  },
  {
    plugins: { "react-hooks": hooks },
    rules: { "react-hooks/rules-of-hooks": "error", "react-hooks/exhaustive-deps": "warn" },
  },
);
