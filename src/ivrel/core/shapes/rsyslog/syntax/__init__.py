"""What a configuration says: files as logical lines, tokens, statements and expressions.

Documentation: "Basic Structure" and "RainerScript" (configuration/basic_structure,
rainerscript/index); what they leave open was asked of the daemon itself.
"""
