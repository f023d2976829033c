"""The five stages of a job: thin views, what their Boards draw, and their templates."""
