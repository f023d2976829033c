"""What is stored: jobs, members, documents, commands, blobs; one transaction a change."""
