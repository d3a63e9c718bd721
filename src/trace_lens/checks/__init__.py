"""The questions that a sign-in must pass: one module a stage, one small function a question.

A check takes the `Case` and yields findings, or says that its question could not be asked and what was lacking. To add
one: an entry in the catalogue, a function with `@asks` in its stage's module, and a test case.
"""
