"""The made-up harbour of the demo, and how it gets into the application."""
