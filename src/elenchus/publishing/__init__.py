"""From a site to files: pages, feeds, data, the sitemap, markers in files of others, and what changed."""
