"""Work on the machines of a Dask cluster: pictures digested and prepared, requests sent, measures run."""
