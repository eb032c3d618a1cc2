"""What tests share: builders, projects in temporary folders, servers, the browser."""
