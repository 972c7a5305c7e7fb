// Stands in for the form library's validator that compiles with eval; see form.tsx.
export default {};
