"""The work behind the commands and the public library: one module for each kind of run.

Nothing here prints, asks or ends the program. What goes wrong is raised as `IvrelError`; what is
only worth a remark is part of the result.
"""
