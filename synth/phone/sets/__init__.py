"""The miniature sets of the Small Lights workshop; each module builds one."""
