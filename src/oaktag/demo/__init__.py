"""The sample workspace, the county libraries of Quillmere, and a walk through the job on it."""
