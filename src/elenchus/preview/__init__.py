"""The preview: a whole site answered on request, its listings as JSON:API, reloaded when files change."""
