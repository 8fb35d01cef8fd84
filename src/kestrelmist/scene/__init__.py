"""Pictures from data, without a window: panes, thumbnails, the Solid view."""
