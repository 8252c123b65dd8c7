"""What every interface is answered with: one type for each form of answer, from the engines to the console.

The engines build them, the reading process sends them, the service publishes them in its OpenAPI document, and the
client, the command line, the reports and the console's generated types read them. Nothing below is imported by itself.
"""
