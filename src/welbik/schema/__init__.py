"""The one resolved description that every artefact is made from. Standard library only."""
