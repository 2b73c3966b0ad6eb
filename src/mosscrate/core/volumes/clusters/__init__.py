"""What FAT and exFAT share: a table of links, the chains in it, free clusters, clusters that move."""

from mosscrate.core.volumes.clusters.chains import Chains
from mosscrate.core.volumes.clusters.copying import copy_clusters
from mosscrate.core.volumes.clusters.following import ROOT, Followed
from mosscrate.core.volumes.clusters.free import NOTHING, Clusters, FreeClusters, extents_of
from mosscrate.core.volumes.clusters.salvaging import as_far, salvaged
from mosscrate.core.volumes.clusters.table import BAD, END, FREE, Clustered, Table, copy_of, owners, wrong_links

__all__ = ["BAD", "END", "FREE", "NOTHING", "ROOT", "Chains", "Clustered", "Clusters", "Followed", "FreeClusters",
           "Table", "as_far", "copy_clusters", "copy_of", "extents_of", "owners", "salvaged", "wrong_links"]
