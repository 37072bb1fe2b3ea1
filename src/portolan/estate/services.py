"""Everything that listens on a machine, as one union."""

from portolan.estate.edge import EdgeService
from portolan.estate.service import NameServer, OtherService, Resolver, ScriptRunner, WebService

#: The services, told apart by their key `kind`; the first is meant where it is left out.
AnyService = WebService | NameServer | Resolver | EdgeService | OtherService | ScriptRunner
